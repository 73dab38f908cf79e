// Mexalt builds and checks firmware images.
package main

import (
	"os"

	"mexalt/internal/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:])) }
