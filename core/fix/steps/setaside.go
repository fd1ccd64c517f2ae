package steps

import (
	"proudsieve/core/condition"
	"proudsieve/core/fix"
	"proudsieve/core/rulebook"
)

func init() {
	fix.Register(fix.Kind{
		Name: "set_aside", Says: "takes the rows where a condition holds out of the table",
		Fields: []fix.Field{{Name: "where", Kind: "condition", Says: "The rows, by a condition", Required: true}},
		Declare: func(i *fix.Item) fix.Action {
			if where := i.ConditionOf("where"); where != nil {
				return setAside{where: where}
			}
			return nil
		},
	})
}

type setAside struct {
	columns
	where *condition.Condition
}

func (s setAside) Drops(rows rulebook.Batch) func(at int) bool { return holds(s.where, rows) }
