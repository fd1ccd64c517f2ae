// Command generate writes the description of the interface for the generator of the client's
// methods. It is run by make generate, before oapi-codegen.
package main

import (
	"fmt"
	"os"

	"proudsieve/service/api"
)

func main() {
	description, err := api.ForGenerators()
	if err == nil {
		_, err = os.Stdout.Write(description)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(2)
	}
}
