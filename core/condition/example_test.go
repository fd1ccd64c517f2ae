package condition_test

import (
	"fmt"

	"proudsieve/core/condition"
	"proudsieve/core/table"
)

// A condition is compiled against the types of its columns; each mistake has its place.
func ExampleCompile() {
	types := map[string]table.Type{"load": table.TypeDecimal, "concentration": table.TypeDecimal,
		"flow": table.TypeDecimal}
	c, _ := condition.Compile("load = concentration * flow", types)
	fmt.Println(c.Names())
	_, mistakes := condition.Compile("load > AND flow < 'much'", types)
	for _, one := range mistakes {
		fmt.Println(one)
	}
	// Output:
	// [load concentration flow]
	// character 8: a column, a value or a parenthesis was expected, not "AND"
}
