package store

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"proudsieve/service/access"
	"proudsieve/service/records"
)

// RightsOf lists what a person who is confined to datasets may do with which, by name.
func RightsOf(ctx context.Context, q Querier, person int64) ([]records.DatasetRight, error) {
	return list[records.DatasetRight](ctx, q, `SELECT d.id AS dataset_id, d.name AS dataset, r.may, r.personal FROM dataset_rights r JOIN datasets d ON d.id = r.dataset_id
		WHERE r.person_id = $1 ORDER BY d.name`, person)
}

// SetRights says whether a person is confined to datasets, and what they may do with which.
func SetRights(ctx context.Context, q Querier, person int64, confined bool, rights []records.DatasetRight) error {
	if _, err := exec(ctx, q, "UPDATE people SET confined = $2, confined_by_groups = false WHERE id = $1", person, confined); err != nil {
		return err
	}
	if _, err := exec(ctx, q, "DELETE FROM dataset_rights WHERE person_id = $1", person); err != nil {
		return err
	}
	for _, r := range rights {
		if _, err := exec(ctx, q, "INSERT INTO dataset_rights (person_id, dataset_id, may, personal) VALUES ($1, $2, $3, $4)", person, r.DatasetID, r.May, r.Personal); err != nil {
			return err
		}
	}
	return nil
}

// SetRightsByGroups confines a person to datasets as their groups say; nil ends what their groups said before, and leaves what an administrator said.
func SetRightsByGroups(ctx context.Context, q Querier, person int64, rights []records.DatasetRight) error {
	if rights == nil {
		before, err := list[bool](ctx, q, "SELECT confined_by_groups FROM people WHERE id = $1", person)
		if err != nil || len(before) == 0 || !before[0] {
			return err
		}
		return SetRights(ctx, q, person, false, nil)
	}
	if err := SetRights(ctx, q, person, true, rights); err != nil {
		return err
	}
	_, err := exec(ctx, q, "UPDATE people SET confined_by_groups = true WHERE id = $1", person)
	return err
}

// grants are what a caller who is confined may do, by dataset.
func (c *Caller) grants(ctx context.Context, q Querier) error {
	if !c.Confined {
		return nil
	}
	rights, err := RightsOf(ctx, q, c.ID)
	c.Grants = map[int64]access.Grant{}
	for _, r := range rights {
		c.Grants[r.DatasetID] = access.Grant{May: access.Level(r.May), Personal: r.Personal}
	}
	return err
}

// May reports whether a caller has a right for a dataset.
func (c *Caller) May(right access.Right, dataset int64) bool {
	return access.Role(c.Role).May(right) && (!c.Confined || c.Grants[dataset].Allows(right))
}

// SeesPersonal reports whether a caller who is confined sees the personal data of a dataset as they are.
func (c *Caller) SeesPersonal(dataset int64) bool {
	return !c.Confined || c.Grants[dataset].SeesPersonal()
}

type seenKey struct{}

// SeenBy restricts the lists that are asked for within a context to the datasets that somebody who is confined may see. It is for
// what is shown to them, and never for what is concluded from records: that takes them all.
func SeenBy(ctx context.Context, c *Caller) context.Context {
	if c == nil || !c.Confined {
		return ctx
	}
	return context.WithValue(ctx, seenKey{}, slices.Sorted(maps.Keys(c.Grants)))
}

// seen is the condition by which a list leaves out what somebody may not see; column has the id of a dataset.
func seen(ctx context.Context, column string) string {
	datasets, confined := ctx.Value(seenKey{}).([]int64)
	switch {
	case !confined:
		return ""
	case len(datasets) == 0:
		return " AND false"
	}
	ids := make([]string, len(datasets))
	for i, id := range datasets {
		ids[i] = strconv.FormatInt(id, 10)
	}
	return " AND " + column + " IN (" + strings.Join(ids, ", ") + ")"
}

// chainOf are the datasets of all tables that one rests on, and its own; $1 is its id.
const chainOf = `WITH RECURSIVE edges AS (SELECT parent_id AS source, id AS made FROM tables WHERE parent_id IS NOT NULL UNION ALL SELECT input_id, table_id FROM table_inputs),
	chain AS (SELECT %s AS id UNION SELECT e.source FROM chain c JOIN edges e ON e.made = c.id) SELECT DISTINCT t.dataset_id FROM tables t JOIN chain USING (id)`

// reached tell, by the noun of an address and what names the thing there, the datasets that it belongs to.
var reached = map[string]string{
	"datasets":     "SELECT id FROM datasets WHERE name = $1",
	"rulebooks":    "SELECT id FROM datasets WHERE name = $1",
	"fix-plans":    "SELECT id FROM datasets WHERE name = $1",
	"tables":       "SELECT dataset_id FROM tables WHERE id = $1::bigint",
	"audits":       "SELECT dataset_id FROM audits WHERE id = $1::bigint",
	"issues":       "SELECT dataset_id FROM issues WHERE id = $1::bigint",
	"jobs":         "SELECT dataset_id FROM jobs WHERE id = $1::bigint",
	"decisions":    "SELECT dataset_id FROM decisions WHERE id = $1::bigint",
	"fetches":      "SELECT dataset_id FROM fetches WHERE id = $1::bigint",
	"sheets":       "SELECT DISTINCT i.dataset_id FROM questions q JOIN issues i ON i.id = q.issue_id WHERE q.sheet_id = $1::bigint",
	"certificates": fmt.Sprintf(chainOf, "(SELECT table_id FROM certificates WHERE id = $1::bigint)"),
	"chains":       fmt.Sprintf(chainOf, "$1::bigint"),
}

// Reached returns the datasets that a thing belongs to: none where there is no such thing. A noun that is not known is ErrNotFound.
func Reached(ctx context.Context, q Querier, noun, key string) ([]int64, error) {
	query, known := reached[noun]
	if !known {
		return nil, fmt.Errorf("%w: there is no %q", ErrNotFound, noun)
	}
	return list[int64](ctx, q, query, key)
}
