// Command hollowreed is the whole product in one binary.
package main

import (
	"os"

	"hollowreed/internal/app"
	"hollowreed/internal/cli"
)

func main() {
	os.Exit(cli.Run(os.Args[1:], os.Stdin, os.Stdout, os.Stderr, app.Commands()...))
}
