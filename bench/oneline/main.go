// Command oneline prints one line: what the start of a Go program costs by
// itself.
package main

import "fmt"

func main() { fmt.Println("one line") }
