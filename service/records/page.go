package records

// Page is a part of a list, newest first.
type Page[T any] struct {
	Items []T    `json:"items"`
	Next  string `json:"next" doc:"Cursor of the next page; empty on the last one"`
}
