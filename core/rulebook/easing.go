package rulebook

import (
	"slices"
	"strconv"
	"strings"
)

// Eases says which change of a field makes a rulebook ask less of a table. Every field that versions are compared by has
// one, so that no kind of rule can become weaker unseen.
type Eases int

const (
	// EasesNever is a field that asks nothing, as a title.
	EasesNever Eases = iota + 1
	// EasesLower is a least value: it asks less when it is lower, and nothing when it is not there.
	EasesLower
	// EasesHigher is a greatest value: it asks less when it is higher, and nothing when it is not there.
	EasesHigher
	// EasesMore is what is allowed, as a tolerance: it asks less when it is higher, and most when it is not there.
	EasesMore
	// EasesOn allows something when it is on.
	EasesOn
	// EasesOff asks something while it is on.
	EasesOff
	// EasesLonger is a list of what is taken: it asks less with each entry that is new.
	EasesLonger
	// EasesPatterns is a list of date patterns, EasesLonger; where none is given, dates are read by ISO 8601.
	EasesPatterns
	// EasesWider is a list of the only ones that are taken: it asks less with each entry that is new, and nothing when it is
	// not there.
	EasesWider
	// EasesGiven narrows where a rule applies: it asks less when it is given, or another.
	EasesGiven
	// EasesLater is one of some words, the strictest first.
	EasesLater
	// EasesAny is a field of which nobody can tell whether another text asks less; it counts as if it did.
	EasesAny
	// EasesType is a type of values: text takes everything, decimals take whole numbers, and of others nobody can tell.
	EasesType
)

// weaker reports whether a change from one value to another asks less, and whether that is certain. An empty value is
// none; entries are those of a list.
func (f *Fact) weaker(then *Fact) (weaker, certain bool) {
	switch f.eases {
	case EasesLower, EasesHigher:
		switch {
		case f.Value == "":
			return true, true
		case then.Value == "":
			return false, true
		}
		return (order(f.Value, then.Value) < 0) == (f.eases == EasesLower), true
	case EasesMore:
		return then.Value == "" || f.Value != "" && order(f.Value, then.Value) > 0, true
	case EasesOn, EasesGiven:
		return f.Value != "", f.eases == EasesOn || then.Value == ""
	case EasesOff:
		return f.Value == "", true
	case EasesLonger:
		return slices.ContainsFunc(f.entries, func(e string) bool { return !slices.Contains(then.entries, e) }), true
	case EasesPatterns:
		return slices.ContainsFunc(f.entries, func(e string) bool {
			return !slices.Contains(then.entries, e) && (then.Value != "" || !strings.HasPrefix(e, "yyyy-MM-dd"))
		}), true
	case EasesWider:
		if f.Value == "" || then.Value == "" {
			return f.Value == "", true
		}
		return slices.ContainsFunc(f.entries, func(e string) bool { return !slices.Contains(then.entries, e) }), true
	case EasesLater:
		return slices.Index(f.choices, f.Value) > slices.Index(f.choices, then.Value), true
	case EasesType:
		switch {
		case f.Value == "text" || f.Value == "decimal" && then.Value == "integer":
			return true, true
		case then.Value == "text" || then.Value == "decimal" && f.Value == "integer":
			return false, true
		}
		return true, false
	case EasesAny:
		return then.Value != "", f.Value == ""
	}
	return false, true
}

// order compares two values as numbers, or as texts where they are none: dates stand by ISO 8601.
func order(a, b string) int {
	x, errX := strconv.ParseFloat(a, 64)
	y, errY := strconv.ParseFloat(b, 64)
	switch {
	case errX == nil && errY == nil && x < y, (errX != nil || errY != nil) && a < b:
		return -1
	case errX == nil && errY == nil && x == y, a == b:
		return 0
	}
	return 1
}

// Weaker lists the differences by which the later of two versions asks less of a table, or may.
func Weaker(before, after *Rulebook) []Difference {
	return slices.DeleteFunc(Compare(before, after), func(d Difference) bool { return !d.Weaker })
}
