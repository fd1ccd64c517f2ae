package leads

import (
	"fmt"
	"regexp"

	"proudsieve/core/document"
	"proudsieve/core/profile"
	"proudsieve/core/table"
)

var dateName = regexp.MustCompile(`(?i)date|day|datum|tag$|jour|^when$|_on$|_at$|sampled|received|visited|opened`)

func init() {
	Register(Kind{
		Name: "type", Finds: "texts among numbers, dates or booleans of a column that nobody declared",
		Threshold: "one cell, where nine in ten are of the type", Like: "%d columns hold texts that are not of their type: %s.",
		OfColumn: func(t *Table, c *Column) []Lead {
			if c.Declared {
				return nil
			}
			rows := c.Mistyped
			var others []profile.Frequency // what no other lead tells
			for _, e := range c.Exceptions {
				if c.isPlaceholder(e) || c.Type.IsNumber() && hasUnit(e.Text) || e.Text == c.Name {
					rows -= e.Rows
				} else {
					others = append(others, e)
				}
			}
			if rows == 0 {
				return nil
			}
			return []Lead{{Rows: rows, Texts: others, Sure: 0.95, Says: fmt.Sprintf("%s in %s %s no %s: %s.",
				document.Counted(rows, "value", "values"), c.Name, document.Plural(rows, "is", "are"), c.Type,
				quoted(others))}}
		},
	})
	Register(Kind{
		Name: "leading_zeros", Finds: "numbers with zeros before them, which are texts until somebody says otherwise",
		Threshold: "one cell", Like: "%d columns hold numbers with zeros before them: %s.",
		OfColumn: func(t *Table, c *Column) []Lead {
			if c.Looks.Padded == 0 || c.Type != table.TypeText {
				return nil
			}
			sure := 0.15 // as codes often are
			if c.Shortest != c.Longest {
				sure = 0.5
			}
			return []Lead{{Sure: sure, Says: fmt.Sprintf(
				"%s of %s %s zeros before a number, so that it is read as text; declare a type if it counts something.",
				document.Counted(c.Looks.Padded, "cell", "cells"), c.Name, document.Plural(c.Looks.Padded, "has", "have"))}}
		},
	})
	Register(Kind{
		Name: "day_numbers", Finds: "whole numbers that are dates as spreadsheets count days",
		Threshold: "ten different ones, all of 1990 to 2060, in a column whose name speaks of a date",
		OfColumn: func(t *Table, c *Column) []Lead {
			if c.Declared || c.Type != table.TypeInteger || c.Distinct < 10 || !dateName.MatchString(c.Name) ||
				!(quartile(c, 0) >= 32874 && quartile(c, 1) <= 58806) {
				return nil
			}
			day, _ := table.MustDatePatterns(table.DayNumber)[0].Parse(c.Lowest)
			return []Lead{{Sure: 0.7, Share: 0.5, Says: fmt.Sprintf(
				"The numbers of %s are probably days as spreadsheets count them, %s being %s; declare type: date and dates: %s.", c.Name,
				c.Lowest, table.InstantValue(day).Standard()[:10], table.DayNumber)}}
		},
	})
	Register(Kind{
		Name: "date_orders", Finds: "dates that are written by several patterns, or may be read by several",
		Threshold: "dates that fit one pattern alone beside dates that fit another one alone",
		OfColumn: func(t *Table, c *Column) []Lead {
			if len(c.Looks.Orders) < 2 || c.Declared {
				return nil
			}
			orders := make([]string, len(c.Looks.Orders))
			for i, o := range c.Looks.Orders {
				orders[i] = fmt.Sprintf("%s (%s)", o.Text, document.Grouped(o.Rows))
			}
			if c.Type != table.TypeText && c.Looks.Orders[1].Text == "yyyy-dd-MM" {
				// Nobody means it: those are told as no dates, and the others are not in doubt.
				return nil
			}
			if c.Looks.Undecided {
				return []Lead{{Rows: c.Looks.Either, Sure: 0.9, Says: fmt.Sprintf(
					"The dates of %s can be read by several patterns, and nothing decides: %s. They are left as text; declare the pattern.",
					c.Name, document.Join(orders))}}
			}
			least := int64(0)
			for i, o := range c.Looks.Orders {
				if i == 0 || o.Rows < least {
					least = o.Rows
				}
			}
			read := "They are left as text"
			if c.Type != table.TypeText {
				read = "They are read by the first"
			}
			return []Lead{{Rows: least + c.Looks.Either, Sure: 0.95, Says: fmt.Sprintf(
				"The dates of %s are written in several ways: %s, and %s either way. %s.", c.Name, document.Join(orders),
				document.Grouped(c.Looks.Either), read)}}
		},
	})
}
