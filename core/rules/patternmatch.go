package rules

import (
	"regexp"
	"regexp/syntax"
	"slices"
)

// Pattern is a regular expression (RE2) that a whole text must match. Texts of ASCII are
// matched by a table of states, a byte at a time, where the pattern is small enough
// for one; others by the standard library. Both take time linear in the text.
type Pattern struct {
	source string
	whole  *regexp.Regexp
	states []patternState // the first one is where matching starts; nil for none
}

type patternState struct {
	next    [128]uint16 // by byte; 0 for no match, else a state + 1
	accepts bool
}

// patternStates bounds the table: 64 kB.
const patternStates = 256

// NewPattern compiles a pattern.
func NewPattern(source string) (*Pattern, error) {
	// It is read alone first: with ours around it, a stray parenthesis could pass, and what
	// it leaves open (a \Q) would take in what is ours. Its tree is written out closed.
	if _, err := regexp.Compile(source); err != nil {
		return nil, err
	}
	parsed, err := syntax.Parse(source, syntax.Perl)
	if err != nil {
		return nil, err
	}
	p := &Pattern{source: source}
	if p.whole, err = regexp.Compile(`\A(?:` + parsed.String() + `)\z`); err != nil {
		return nil, err
	}
	if program, err := syntax.Compile(parsed.Simplify()); err == nil {
		p.states = newTable(program)
	}
	return p, nil
}

// String returns the source.
func (p *Pattern) String() string { return p.source }

// MatchString reports whether the whole text matches.
func (p *Pattern) MatchString(text string) bool {
	if p.states == nil {
		return p.whole.MatchString(text)
	}
	s := &p.states[0]
	for i := 0; i < len(text); i++ {
		if text[i] >= 128 {
			return p.whole.MatchString(text)
		}
		next := s.next[text[i]]
		if next == 0 {
			// Nothing that follows can match, unless it is not ASCII, which changes nothing either.
			return false
		}
		s = &p.states[next-1]
	}
	return s.accepts
}

// MatchASCII is MatchString for bytes that are known to be ASCII.
func (p *Pattern) MatchASCII(text []byte) bool {
	if p.states == nil {
		return p.whole.Match(text)
	}
	s := &p.states[0]
	for _, c := range text {
		next := s.next[c&127]
		if next == 0 {
			return false
		}
		s = &p.states[next-1]
	}
	return s.accepts
}

// DigitsAlike reports whether texts that differ in nothing but their digits all match, or
// none of them does.
func (p *Pattern) DigitsAlike() bool {
	for i := range p.states {
		for c := '0'; c <= '9'; c++ {
			if p.states[i].next[c] != p.states[i].next['0'] {
				return false
			}
		}
	}
	return p.states != nil
}

// newTable makes the table of a program's states (the subset construction of Rabin and Scott,
// IBM Journal 3(2), 1959); nil where it would be too large, or where the program looks at
// more than where the text begins and ends.
func newTable(program *syntax.Prog) []patternState {
	b := tableBuilder{program: program, known: map[string]uint16{}}
	if _, ok := b.state([]uint32{uint32(program.Start)}, true); !ok {
		return nil
	}
	for at := 0; at < len(b.sets); at++ {
		moves, ok := b.closure(b.sets[at], edges{begins: at == 0})
		if !ok {
			return nil
		}
		for c := range 128 {
			var next []uint32
			for _, pc := range moves {
				if in := &program.Inst[pc]; in.Op != syntax.InstMatch && in.MatchRune(rune(c)) &&
					!slices.Contains(next, in.Out) {
					next = append(next, in.Out)
				}
			}
			if len(next) == 0 {
				continue
			}
			to, ok := b.state(next, false)
			if !ok {
				return nil
			}
			b.states[at].next[c] = to + 1
		}
	}
	return b.states
}

type tableBuilder struct {
	program *syntax.Prog
	known   map[string]uint16
	sets    [][]uint32 // the instructions of each state, before what needs no character
	states  []patternState
}

func (b *tableBuilder) state(set []uint32, first bool) (uint16, bool) {
	slices.Sort(set)
	key := make([]byte, 0, 4*len(set))
	for _, pc := range set {
		key = append(key, byte(pc), byte(pc>>8), byte(pc>>16), byte(pc>>24))
	}
	// The first state is one of its own, since only there the text begins.
	if at, ok := b.known[string(key)]; ok && !first {
		return at, true
	}
	if len(b.states) == patternStates {
		return 0, false
	}
	last, ok := b.closure(set, edges{begins: first, ends: true})
	if !ok {
		return 0, false
	}
	at := uint16(len(b.states))
	if !first {
		b.known[string(key)] = at
	}
	accepts := slices.ContainsFunc(last, func(pc uint32) bool { return b.program.Inst[pc].Op == syntax.InstMatch })
	b.sets, b.states = append(b.sets, set), append(b.states, patternState{accepts: accepts})
	return at, true
}

// edges says which ends of the text a place is at.
type edges struct{ begins, ends bool }

// closure follows what needs no character. ok is false where it looks at something else
// than the beginning and the end of the text.
func (b *tableBuilder) closure(set []uint32, at edges) (out []uint32, ok bool) {
	seen := map[uint32]bool{}
	waiting := slices.Clone(set)
	for len(waiting) > 0 {
		pc := waiting[len(waiting)-1]
		waiting = waiting[:len(waiting)-1]
		if seen[pc] {
			continue
		}
		seen[pc] = true
		switch in := &b.program.Inst[pc]; in.Op {
		case syntax.InstAlt, syntax.InstAltMatch:
			waiting = append(waiting, in.Out, in.Arg)
		case syntax.InstCapture, syntax.InstNop:
			waiting = append(waiting, in.Out)
		case syntax.InstEmptyWidth:
			switch syntax.EmptyOp(in.Arg) {
			case syntax.EmptyBeginText:
				if at.begins {
					waiting = append(waiting, in.Out)
				}
			case syntax.EmptyEndText:
				if at.ends {
					waiting = append(waiting, in.Out)
				}
			default:
				return nil, false
			}
		case syntax.InstFail:
		default:
			out = append(out, pc)
		}
	}
	return out, true
}
