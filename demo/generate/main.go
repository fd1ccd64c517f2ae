// Command generate writes the files of the demo into the directory it is given.
package main

import (
	"fmt"
	"os"

	"proudsieve/demo/generate/scenario"
)

func main() {
	if len(os.Args) != 2 {
		fmt.Fprintln(os.Stderr, "usage: generate DIRECTORY")
		os.Exit(2)
	}
	for name, content := range scenario.Generate() {
		if err := scenario.WriteFile(os.Args[1], name, content); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(2)
		}
	}
}
