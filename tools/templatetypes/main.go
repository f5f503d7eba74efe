// Command templatetypes checks the page templates against the Go types of what they are given: each field, method and function that
// a template names must be there, also in the templates that it draws with {{template}}. The types come from the calls that draw a
// page; what a template is given by another one is followed.
package main

import (
	"fmt"
	"os"
)

func main() {
	pages, err := load("./internal/web/...")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(2)
	}
	bad := check(pages)
	for _, b := range bad {
		fmt.Fprintln(os.Stderr, b)
	}
	if len(bad) > 0 {
		os.Exit(1)
	}
}
