package rulebook

import (
	"fmt"

	"proudsieve/core/document"
)

// Elsewhere names columns of another dataset.
type Elsewhere struct {
	Dataset string
	Columns []string
}

// String names it in messages.
func (e Elsewhere) String() string {
	return fmt.Sprintf("%s of %s", document.Join(e.Columns), e.Dataset)
}

// ElsewhereLimit bounds the keys, codes and groups of another dataset that are held in memory.
const ElsewhereLimit = 5_000_000

// ErrTooMany says that another dataset has more different values than can be held.
var ErrTooMany = fmt.Errorf("there are more than %s different ones", document.Grouped(ElsewhereLimit))
