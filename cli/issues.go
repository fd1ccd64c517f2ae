package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"proudsieve/client"
	"proudsieve/core/document"
	"proudsieve/service/records"
)

func issueCommand() *cli.Command {
	type change func(ctx context.Context, s *session, id int64, args []string) (*records.IssueShown, error)
	edit := func(name, usage, args string, flags []cli.Flag, change change) *cli.Command {
		return verb(name, usage, args, flags, func(ctx context.Context, s *session, args []string) error {
			id, err := number(args[0], "an issue")
			if err != nil {
				return err
			}
			i, err := change(ctx, s, id, args)
			return show(s, i, err, s.issue)
		})
	}
	return group("issue", "findings that people follow across deliveries",
		verb("list", "issues", "", []cli.Flag{
			&cli.StringFlag{Name: "dataset"}, &cli.StringFlag{Name: "assignee", Usage: "a person, or - for nobody"},
			&cli.StringFlag{Name: "severity", Usage: "major, minor or note"},
			&cli.StringFlag{Name: "text", Usage: "only issues with this in their title, rule or dataset"},
			&cli.StringFlag{Name: "order", Usage: "what comes first: newest, changed, rows or gravest"},
			&cli.StringFlag{Name: "state", Value: "unsettled",
				Usage: "open, asked, waived, closed, unsettled (open or asked), or all"},
		}, func(ctx context.Context, s *session, _ []string) error {
			state := s.command.String("state")
			if state == "all" {
				state = ""
			}
			all, err := client.All(func(after string, limit int64) (*records.Page[records.Issue], error) {
				return s.ListIssues(ctx, &client.ListIssuesParams{After: after, Limit: limit,
					Dataset: s.command.String("dataset"), State: client.ListIssuesParamsState(state),
					Assignee: s.command.String("assignee"), Severity: client.ListIssuesParamsSeverity(s.command.String("severity")),
					Text: s.command.String("text"), Order: client.ListIssuesParamsOrder(s.command.String("order"))})
			})
			return show(s, all, err, func(all []records.Issue) {
				g := newGrid(">issue", "dataset", "severity", "state", ">rows", "assigned to", "rule", "what was found")
				for _, i := range all {
					g.add(fmt.Sprint(i.ID), i.Dataset, i.Severity, i.State, count(i.Rows), optional(i.Assignee, same),
						i.Rule, i.Title)
				}
				s.grid(g, "No issue is unsettled.")
			})
		}),
		verb("show", "one issue with all that happened to it", "ISSUE", nil,
			func(ctx context.Context, s *session, args []string) error {
				id, err := idOf(args[0])
				if err != nil {
					return err
				}
				i, err := s.ShowIssue(ctx, id)
				return show(s, i, err, s.issue)
			}),
		verb("make", "make an issue of a lead, of one text of a finding, or of chosen rows", "AUDIT", []cli.Flag{
			&cli.StringFlag{Name: "lead", Usage: "the kind of the lead, as --json tells it"},
			&cli.StringFlag{Name: "column", Usage: "its column"},
			&cli.StringFlag{Name: "rule", Usage: "the rule that was broken"},
			&cli.StringFlag{Name: "text", Usage: "one of the texts that break it"},
			&cli.UintSliceFlag{Name: "row", Usage: "the number of a row; may be repeated"},
			&cli.StringFlag{Name: "title", Usage: "what it is about; what was found where this is left out"},
			&cli.StringFlag{Name: "severity", Usage: "major, minor or note"},
		}, makeIssue),
		verb("comment", "say something about an issue", "ISSUE TEXT", nil,
			func(ctx context.Context, s *session, args []string) error {
				id, err := idOf(args[0])
				if err != nil {
					return err
				}
				i, err := s.CommentIssue(ctx, id, client.CommentBody{Text: args[1]})
				return show(s, i, err, s.issue)
			}),
		edit("assign", "give an issue to somebody", "ISSUE PERSON", nil,
			func(ctx context.Context, s *session, id int64, args []string) (*records.IssueShown, error) {
				return s.EditIssue(ctx, id, client.IssueChangeBody{Assignee: &args[1]})
			}),
		edit("ask", "say that the owner of the data was asked", "ISSUE", nil,
			func(ctx context.Context, s *session, id int64, _ []string) (*records.IssueShown, error) {
				asked := client.IssueChangeBodyStateAsked
				return s.EditIssue(ctx, id, client.IssueChangeBody{State: &asked})
			}),
		edit("waive", "accept what was found, for a reason, until a date", "ISSUE", []cli.Flag{
			&cli.StringFlag{Name: "reason", Required: true}, &cli.StringFlag{Name: "until", Required: true,
				Usage: "the last day it holds, yyyy-MM-dd"},
		}, func(ctx context.Context, s *session, id int64, _ []string) (*records.IssueShown, error) {
			return s.Waive(ctx, id, client.WaiverBody{Reason: s.command.String("reason"),
				Until: s.command.String("until")})
		}),
	)
}

func (s *session) issue(i *records.IssueShown) {
	s.line("Issue %d of %s: %s", i.ID, i.Dataset, safe(i.Title))
	s.line("Rule %s, severity %s, %s, %s, assigned to %s.", i.Rule, i.Severity, i.State, document.Counted(i.Rows, "row", "rows"),
		orNobody(i.Assignee))
	if i.WaiverUntil != nil {
		s.line("Waived by %s until %s: %s", *i.WaiverBy, *i.WaiverUntil, safe(*i.WaiverReason))
	}
	s.line("")
	g := newGrid("when", "who", "what", "")
	for _, e := range i.Entries {
		who := "audit"
		if e.Person != nil {
			who = *e.Person
		} else if e.AuditID != nil {
			who = fmt.Sprintf("audit %d", *e.AuditID)
		}
		g.add(when(e.At), who, e.Kind, e.Text)
	}
	s.grid(g, "")
}

func makeIssue(ctx context.Context, s *session, args []string) error {
	id, err := number(args[0], "an audit")
	if err != nil {
		return err
	}
	c := s.command
	body := client.MakeIssueJSONRequestBody{Lead: c.String("lead"), Column: c.String("column"), Rule: c.String("rule"),
		Text: c.String("text"), Title: c.String("title"), Severity: client.MadeBodySeverity(c.String("severity"))}
	for _, row := range c.UintSlice("row") {
		body.Rows = append(body.Rows, int32(row))
	}
	i, err := s.MakeIssue(ctx, id, body)
	return show(s, i, err, func(i *records.Issue) {
		s.line("Issue %d of %s is open: %s", i.ID, i.Dataset, safe(i.Title))
	})
}
