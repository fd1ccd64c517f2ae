// Command generate writes the files of the demo into the directory it is given, and the list of
// kinds of rules into the guide beside it.
package main

import (
	"fmt"
	"os"
	"path/filepath"

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
	for _, page := range scenario.Pages() {
		if err := scenario.WriteGuide(filepath.Join(os.Args[1], "../docs", page)); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(2)
		}
	}
}
