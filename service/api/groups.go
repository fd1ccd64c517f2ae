package api

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"proudsieve/core/audit"
	"proudsieve/core/relation"
	"proudsieve/core/rulebook"
	"proudsieve/service/access"
	"proudsieve/service/records"
	"proudsieve/service/work"
)

// GroupsPage is some groups of rows that share the values of columns.
type GroupsPage struct {
	relation.Groups
	Names  []string         `json:"names" doc:"The table's columns"`
	Kind   string           `json:"kind"`
	Page   []relation.Group `json:"page"`
	Offset int              `json:"offset"`
	Listed int              `json:"listed" doc:"How many groups of the kind can be paged through"`
}

// groups adds what rows and texts have in common.
func (s *Server) groups() {
	type groupsAsked struct {
		ByID
		Columns []string `query:"columns,explode" required:"true" doc:"The columns that a group has in common"`
		Kind    string   `query:"kind" enum:"equal,conflicting,near" default:"conflicting"`
		Offset  int      `query:"offset" minimum:"0" maximum:"4294967294"`
		Limit   int      `query:"limit" minimum:"1" maximum:"100" default:"20"`
	}
	register(s, operation{
		Right: access.Read, ID: "show-groups", Method: http.MethodGet, Path: "/tables/{id}/groups",
		Summary: "Rows that share the values of columns, side by side: equal ones, conflicting ones, and those that are near once spellings are levelled",
	}, func(ctx context.Context, in *groupsAsked) (*body[GroupsPage], error) {
		t, err := s.inside(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		found, err := recall(ctx, &s.remembered, t.key+"groups "+strings.Join(in.Columns, "\x00"),
			func(ctx context.Context) (*relation.Groups, error) {
				return asked(relation.FindGroups(ctx, t.Table, in.Columns))
			})
		if err != nil {
			return nil, err
		}
		out := &GroupsPage{Groups: *found, Names: t.Source.Columns(), Kind: in.Kind, Offset: in.Offset}
		out.Page, out.Listed, err = found.Page(ctx, t.Table, relation.GroupKind(in.Kind), in.Offset, in.Limit)
		return answer(out, err)
	})
	type codesAsked struct {
		ByID
		Column string `query:"column" required:"true"`
	}
	register(s, operation{
		Right: access.Read, ID: "show-codes", Method: http.MethodGet, Path: "/tables/{id}/codes",
		Summary: "What the texts of a column stand for: codes, other spellings of them with how sure that is, codes of other columns, or nothing known",
	}, func(ctx context.Context, in *codesAsked) (*body[relation.Codes], error) {
		t, err := s.inside(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		return answer(recall(ctx, &s.remembered, t.key+"codes "+in.Column,
			func(ctx context.Context) (*relation.Codes, error) {
				return asked(relation.Recognise(ctx, t.Table, in.Column))
			}))
	})
}

// bound gives the rulebook of an open table the codes that it takes from other datasets.
// The answer tells which tables these came from, for remembering.
func (s *Server) bound(ctx context.Context, t *records.Table,
	book *rulebook.Rulebook) (*rulebook.Rulebook, string, error) {
	if book == nil || !takesCodes(book) {
		return book, "", nil
	}
	if err := work.Beside(ctx, s.Store, s.Files, t, book, t.CreatedAt); err != nil {
		return nil, "", err
	}
	whole, err := audit.Bound(ctx, book, s.Pool.Workers)
	return whole, fmt.Sprint(book.Beside.Used), err
}

// takesCodes reports whether a rulebook takes codes from other datasets.
func takesCodes(book *rulebook.Rulebook) bool {
	return slices.ContainsFunc(book.Columns, func(c rulebook.Column) bool {
		l := book.CodeLists[c.CodeList]
		return l != nil && l.From != nil
	})
}
