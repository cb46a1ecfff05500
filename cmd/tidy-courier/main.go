// Command tidy-courier runs OAuth 2.0 grants, explains tokens, calls protected
// APIs, and says why a leg failed.
package main

import (
	"os"

	"tidycourier/cli"
)

func main() {
	os.Exit(cli.Main(os.Args[1:], cli.Process()))
}
