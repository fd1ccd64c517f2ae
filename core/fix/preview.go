package fix

import "proudsieve/core/audit"

// Preview is what a plan would do: the ledger of a run whose outputs are kept apart, and the audits of the table that
// arrived and of the one that was made.
type Preview struct {
	Ledger      Ledger `json:"ledger"`
	ChangeCount int64  `json:"change_count"` // cells and rows
	// Since says which steps touch another share than on the delivery before, where the plan was applied to one.
	Since  []Since       `json:"since"`
	Before *audit.Result `json:"before"`
	After  *audit.Result `json:"after"`
}
