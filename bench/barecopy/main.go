// Command barecopy copies an HTTP answer into a file and does nothing else: what
// call --save is measured against.
package main

import (
	"io"
	"net/http"
	"os"
)

func main() {
	resp, err := http.Get(os.Args[1])
	if err != nil {
		panic(err)
	}
	f, err := os.Create(os.Args[2])
	if err != nil {
		panic(err)
	}
	if _, err := io.Copy(f, resp.Body); err != nil {
		panic(err)
	}
	if err := f.Close(); err != nil {
		panic(err)
	}
}
