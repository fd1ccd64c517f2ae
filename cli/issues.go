package cli

import (
	"context"
	"fmt"
	"strings"

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
			&cli.StringFlag{Name: "owner", Usage: "who can tell what is right"},
			&cli.BoolFlag{Name: "overdue", Usage: "only those whose day is over"},
			&cli.StringFlag{Name: "order", Usage: "what comes first: newest, changed, rows, gravest or due"},
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
					Text: s.command.String("text"), Order: client.ListIssuesParamsOrder(s.command.String("order")),
					Owner: s.command.String("owner"), Overdue: s.command.Bool("overdue")})
			})
			return show(s, all, err, func(all []records.Issue) {
				g := newGrid(">issue", "dataset", "severity", "state", ">rows", "assigned to", "owner", "due", "rule", "what was found")
				for _, i := range all {
					g.add(fmt.Sprint(i.ID), i.Dataset, i.Severity, standing(&i), count(i.Rows), optional(i.Assignee, same),
						i.Owner, dueOn(&i), i.Rule, i.Title)
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
				return s.EditIssue(ctx, id, client.IssueChanged{Assignee: &args[1]})
			}),
		edit("owner", "say who can tell what is right: the owner of the data, with or without an account", "ISSUE NAME", nil,
			func(ctx context.Context, s *session, id int64, args []string) (*records.IssueShown, error) {
				return s.EditIssue(ctx, id, client.IssueChanged{Owner: &args[1]})
			}),
		edit("due", "say until when an issue is to be settled; - for no day", "ISSUE DAY", nil,
			func(ctx context.Context, s *session, id int64, args []string) (*records.IssueShown, error) {
				day := strings.TrimPrefix(args[1], "-")
				return s.EditIssue(ctx, id, client.IssueChanged{Due: &day})
			}),
		edit("ask", "say that the owner of the data was asked", "ISSUE", nil,
			func(ctx context.Context, s *session, id int64, _ []string) (*records.IssueShown, error) {
				asked := client.IssueChangedStateAsked
				return s.EditIssue(ctx, id, client.IssueChanged{State: &asked})
			}),
		edit("open", "open an issue again; its waivers end", "ISSUE", nil,
			func(ctx context.Context, s *session, id int64, _ []string) (*records.IssueShown, error) {
				open := client.IssueChangedStateOpen
				return s.EditIssue(ctx, id, client.IssueChanged{State: &open})
			}),
		edit("waive", "accept of what was found some texts, some rows or so many of them, for a reason", "ISSUE", waiverFlags(),
			func(ctx context.Context, s *session, id int64, _ []string) (*records.IssueShown, error) {
				return s.Waive(ctx, id, waivedBy(s.command))
			}),
		edit("end-waiver", "end a waiver before its time", "ISSUE WAIVER", nil,
			func(ctx context.Context, s *session, id int64, args []string) (*records.IssueShown, error) {
				waiver, err := number(args[1], "a waiver")
				if err != nil {
					return nil, err
				}
				i, err := s.ShowIssue(ctx, id)
				if err != nil {
					return nil, err
				}
				return s.EndWaiver(ctx, id, waiver, &client.EndWaiverParams{IfMatch: client.Seen(i.Version)})
			}),
		edit("close", "close an issue of which nothing is found any more, with a reason", "ISSUE", []cli.Flag{
			&cli.StringFlag{Name: "reason", Required: true},
			&cli.StringFlag{Name: "ended", Value: "corrected", Usage: "how: corrected, put_right, accepted or withdrawn"},
		}, func(ctx context.Context, s *session, id int64, _ []string) (*records.IssueShown, error) {
			return s.End(ctx, id, client.Closing{Reason: s.command.String("reason"), Ended: client.ClosingEnded(s.command.String("ended"))})
		}),
		severalCommand(),
	)
}

func waiverFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "reason", Required: true},
		&cli.StringFlag{Name: "until", Usage: "the last day it holds, yyyy-MM-dd"},
		&cli.StringFlag{Name: "for", Usage: "delivery: for this delivery alone; good: without an end"},
		&cli.StringFlag{Name: "of", Value: "count", Usage: "count: as many rows as there are now; texts; or rows, by what stands in them"},
		&cli.StringFlag{Name: "column", Usage: "of texts: their column"},
		&cli.StringSliceFlag{Name: "text", Usage: "a text that is accepted; may be repeated"},
		&cli.UintSliceFlag{Name: "row", Usage: "of rows: the number of one that is accepted; all that were found where none is named"},
	}
}

func waivedBy(c *cli.Command) client.Waived {
	w := client.Waived{Reason: c.String("reason"), Until: c.String("until"), For: client.WaivedFor(c.String("for")),
		Of: client.WaivedOf(c.String("of")), Column: c.String("column"), Texts: c.StringSlice("text")}
	for _, row := range c.UintSlice("row") {
		w.Rows = append(w.Rows, int32(row))
	}
	return w
}

// severalCommand does one thing with several issues.
func severalCommand() *cli.Command {
	return verb("several", "assign, ask, waive or close several issues with one reason: all, or none where one cannot be", "ISSUE,ISSUE,...", []cli.Flag{
		&cli.StringFlag{Name: "reason", Required: true},
		&cli.StringFlag{Name: "assign", Usage: "a person"},
		&cli.StringFlag{Name: "owner", Usage: "who can tell what is right"},
		&cli.StringFlag{Name: "due", Usage: "until when they are to be settled, yyyy-MM-dd"},
		&cli.BoolFlag{Name: "ask", Usage: "say that the owner was asked"},
		&cli.StringFlag{Name: "waive-until", Usage: "accept as many rows as each has now, until a day"},
		&cli.StringFlag{Name: "close", Usage: "how they ended: corrected, put_right, accepted or withdrawn"},
	}, func(ctx context.Context, s *session, args []string) error {
		c := s.command
		body := client.SeveralBody{Reason: c.String("reason")}
		for _, one := range strings.Split(args[0], ",") {
			id, err := number(one, "an issue")
			if err != nil {
				return err
			}
			body.Issues = append(body.Issues, id)
		}
		switch {
		case c.String("waive-until") != "":
			body.Waiver = &client.Waived{Reason: body.Reason, Until: c.String("waive-until")}
		case c.String("close") != "":
			body.Close = &client.Closing{Reason: body.Reason, Ended: client.ClosingEnded(c.String("close"))}
		default:
			body.Change = &client.IssueChanged{}
			for flag, into := range map[string]**string{"assign": &body.Change.Assignee, "owner": &body.Change.Owner, "due": &body.Change.Due} {
				if c.IsSet(flag) {
					text := c.String(flag)
					*into = &text
				}
			}
			if c.Bool("ask") {
				asked := client.IssueChangedStateAsked
				body.Change.State = &asked
			}
		}
		done, err := s.ChangeIssues(ctx, body)
		return show(s, done, err, func(all *[]records.Issue) {
			s.line("%s changed.", document.Counted(int64(len(*all)), "issue was", "issues were"))
		})
	})
}

// endedWords say how an issue ended.
var endedWords = map[string]string{"corrected": "corrected by who delivers", "put_right": "put right here", "accepted": "accepted as it is",
	"withdrawn": "withdrawn with what it was found in", "rule_changed": "the rule was changed"}

// standing is the state of an issue, and how it ended.
func standing(i *records.Issue) string {
	if i.Ended == nil || i.State != "closed" {
		return i.State
	}
	return i.State + ": " + endedWords[*i.Ended]
}

func dueOn(i *records.Issue) string {
	switch {
	case i.Due == nil:
		return ""
	case i.Overdue:
		return *i.Due + ", overdue"
	}
	return *i.Due
}

func (s *session) issue(i *records.IssueShown) {
	s.line("Issue %d of %s: %s", i.ID, i.Dataset, safe(i.Title))
	s.line("Rule %s, severity %s, %s, %s, assigned to %s.", i.Rule, i.Severity, standing(&i.Issue), document.Counted(i.Rows, "row", "rows"),
		orNobody(i.Assignee))
	if i.Owner != "" {
		s.line("The owner of the data is %s.", safe(i.Owner))
	}
	if i.Due != nil {
		s.line("Due on %s.", dueOn(&i.Issue))
	}
	for _, w := range i.Given {
		if w.InForce {
			s.line("Waiver %d, by %s, for %s, %s: %s", w.ID, w.By, safe(w.Covers), forHowLong(&w), safe(w.Reason))
		}
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

// forHowLong says how long a waiver holds.
func forHowLong(w *records.Waiver) string {
	switch {
	case w.Until != nil:
		return "until " + *w.Until
	case w.TableID != nil:
		return fmt.Sprintf("for the delivery of table %d alone", *w.TableID)
	}
	return "for good"
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
