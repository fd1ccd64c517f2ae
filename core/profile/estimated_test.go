package profile

import (
	"fmt"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"

	"proudsieve/core/table"
)

// stretches makes up the cells of a column in stretches: nearly all different, with some that
// come again and again, and long ones among them.
func stretches(seed uint64, kind string) [][]string {
	r := rand.New(rand.NewPCG(seed, 77))
	next := 0
	out := make([][]string, 12)
	for s := range out {
		for range 9_000 + r.IntN(9_000) {
			next++
			text := fmt.Sprintf("%d.%03d", r.IntN(900), r.IntN(1000))
			if kind == "texts" {
				text = fmt.Sprintf("R-%08d", next)
			}
			switch r.IntN(100) {
			case 0:
				text = "-999"
			case 1:
				text = []string{"0", "0.0", "7.5"}[r.IntN(3)]
			case 2:
				text = "a text that is longer than a token"
			case 3:
				text = fmt.Sprintf("a text that is longer than a token, number %d", next)
			case 4:
				text = "n/a ?"
			}
			out[s] = append(out[s], text)
		}
	}
	return out
}

// describe adds up the stretches of a column. Each shard is told what the summary knew lag
// stretches before: one that is told nothing keeps every text.
func describe(all [][]string, kind string, lag int, inBlocks bool) (Column, int) {
	var summary Summary
	var estimated []uint64
	kept := 0
	for s, texts := range all {
		var shard Shard
		if s >= lag {
			shard.Begin(estimated[s-lag])
		}
		var tokens []table.Token
		var coefficients []int64
		var scales []uint8
		flush := func() {
			if kind == "numbers" {
				shard.AddNumbers(tokens, coefficients, scales)
			} else {
				shard.AddPlain(tokens)
			}
			tokens, coefficients, scales = tokens[:0], coefficients[:0], scales[:0]
		}
		for i, text := range texts {
			t := table.TokenOf(text)
			c, scale, number := t.Number()
			if plain := t.Plain() && (kind == "texts" || number); plain && inBlocks {
				tokens, coefficients, scales = append(tokens, t), append(coefficients, c), append(scales, uint8(scale))
			} else {
				value := table.TextValue(text)
				if kind == "numbers" {
					value = numberOf(text)
				}
				shard.Add(&Cell{Token: t, Text: text, Value: value}, 1)
			}
			if i%512 == 511 {
				flush()
			}
		}
		flush()
		shard.End()
		for _, chunk := range shard.tallies.chunks[:shard.tallies.used] {
			kept += len(chunk)
		}
		summary.Take(&shard)
		estimated = append(estimated, summary.Estimated())
	}
	return summary.Column(func(t table.Token, text string) (table.Decimal, bool) {
		v := numberOf(t.Text(text))
		return v.Number, v.Kind == table.Number
	}), kept
}

// What shards leave out, once the summary needs it no more, changes nothing: whether they are
// told so at once, later or never.
func TestWhatShardsLeaveOutChangesNothing(t *testing.T) {
	for _, kind := range []string{"numbers", "texts"} {
		all := stretches(5, kind)
		never, everything := describe(all, kind, len(all), true)
		if !never.AtLeast || len(never.Frequent) < 2 {
			t.Fatalf("%s: the column of the test is counted in full: %+v", kind, never)
		}
		for _, lag := range []int{1, 2, 5} {
			got, kept := describe(all, kind, lag, true)
			if !reflect.DeepEqual(got, never) {
				t.Errorf("%s, told %d stretches later:\n%+v\nwant\n%+v", kind, lag, got, never)
			}
			if kept >= everything || lag == 1 && kept > everything*3/4 {
				t.Errorf("%s, told %d stretches later: %d of %d texts are kept", kind, lag, kept, everything)
			}
		}
	}
}

// Blocks of numbers and of texts say what their cells say one by one.
func TestBlocksSayWhatTheirCellsSay(t *testing.T) {
	for _, kind := range []string{"numbers", "texts"} {
		all := stretches(6, kind)
		blocks, _ := describe(all, kind, 1, true)
		single, _ := describe(all, kind, 1, false)
		// Which texts are counted on beyond the cap depends on their order, of which blocks keep less.
		for _, c := range []*Column{&blocks, &single} {
			for _, f := range c.Frequent {
				want := int64(0)
				for _, texts := range all {
					want += int64(strings.Count("\x00"+strings.Join(texts, "\x00\x00")+"\x00", "\x00"+f.Text+"\x00"))
				}
				if f.Rows > want || f.Rows < want*8/10 {
					t.Errorf("%s: %q is said to stand in at least %d rows, and stands in %d", kind, f.Text, f.Rows,
						want)
				}
			}
			c.Frequent = nil
		}
		if blocks.Numbers != nil && single.Numbers != nil {
			if off := *blocks.Numbers.Skewness - *single.Numbers.Skewness; off > 1e-9 || off < -1e-9 {
				t.Errorf("the skewness differs by %v", off)
			}
			blocks.Numbers.Skewness, single.Numbers.Skewness = nil, nil // sums of third powers round by their order
		}
		if !reflect.DeepEqual(blocks, single) {
			t.Errorf("%s in blocks:\n%+v\nwant\n%+v", kind, blocks, single)
		}
	}
}
