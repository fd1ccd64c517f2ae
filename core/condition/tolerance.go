package condition

import (
	"errors"

	"proudsieve/core/table"
)

// Tolerate lets the two sides of the condition, which is a single =, <= or >= of numbers,
// differ by as much as by: a = b becomes ABS(a - b) <= by. It is called before Check.
func (c *Condition) Tolerate(by table.Decimal) error {
	n, ok := c.root.(comparison)
	if !ok || n.sign != "=" && n.sign != "<=" && n.sign != ">=" {
		return errors.New("a tolerance goes with a single comparison by =, <= or >=")
	}
	c.within = &by
	amount := literal{n.at, table.NumberValue(by)}
	difference := node(arithmetic{n.at, '-', n.left, n.right})
	switch n.sign {
	case "=":
		c.root = comparison{n.at, "<=", call{at: n.at, name: "ABS", args: []node{difference}}, amount, false}
	case "<=":
		c.root = comparison{n.at, "<=", difference, amount, false}
	case ">=":
		c.root = comparison{n.at, ">=", difference, literal{n.at, table.NumberValue(by.Neg())}, false}
	}
	return nil
}

// Tolerance returns what Tolerate was given, or nil.
func (c *Condition) Tolerance() *table.Decimal { return c.within }
