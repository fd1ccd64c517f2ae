package delimited

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"proudsieve/core/table"
)

// lines makes up records of awkward lengths, most of them with as many cells as width says.
func lines(r *rand.Rand, width int) (padded, []span) {
	var data []byte
	var records []span
	for range 200 {
		cells := make([]string, width)
		for c := range cells {
			cells[c] = strings.Repeat(string(rune('a'+r.IntN(26))), []int{0, 1, 7, 8, 9, 14, 15, 16, 17, 63, 64, 65,
				200}[r.IntN(13)])
		}
		switch r.IntN(12) {
		case 0:
			cells = cells[:r.IntN(width+1)]
		case 1:
			cells = append(cells, "surplus")
		}
		line := strings.Join(cells, ",") + []string{"\n", "\r\n", "\r\r\n"}[r.IntN(3)]
		if len(records) == 199 && r.IntN(2) == 0 {
			line = strings.TrimRight(line, "\r\n") + "." // the last line need not end
		}
		form := plainRecord
		if r.IntN(20) == 0 {
			form = quotedRecord
		}
		records = append(records, span{start: uint32(len(data)), length: uint32(len(line)), form: form})
		data = append(data, line...)
	}
	return paddedWith(data, strings.Repeat(",\n", readAhead/2)), records
}

// The instructions for many bytes at once are held against the code for any processor.
func TestRecordsAreSplitAlikeWithAndWithoutVectors(t *testing.T) {
	r := rand.New(rand.NewPCG(14, 15))
	for round := range 300 {
		width := 1 + r.IntN(14)
		data, records := lines(r, width)
		marks, _ := findDelimiters(nil, data, ',')
		rows := len(records)
		fast, plain := make([]table.Token, rows*width), make([]table.Token, rows*width)
		for first := 0; first < rows; first++ {
			got, want := marks.splitAll(data, records, '\n', fast, first, rows),
				marks.splitEach(data, records, '\n', plain, first, rows)
			if got != want {
				t.Fatalf("round %d: %d records from record %d on are split, want %d", round, got, first, want)
			}
			for i := first; i < first+want; i++ {
				line := data.bytes()[records[i].start : records[i].start+records[i].length]
				cells := strings.Split(string(withoutLineEnd(line, '\n')), ",")
				for c, cell := range cells {
					if token := fast[c*rows+i]; token != plain[c*rows+i] || token.Inline() &&
						token != table.TokenOf(cell) {
						t.Fatalf("round %d: cell %d of %q is %v, want %v", round, c, line, token, plain[c*rows+i])
					}
				}
			}
			first += want
		}
	}
}

func TestBlocksAreMarkedAlikeWithAndWithoutVectors(t *testing.T) {
	r := rand.New(rand.NewPCG(16, 17))
	for _, alphabet := range []string{"ab,\n", "ab,\n\x00", "ab,\né", "ab,\n\x7f"} {
		for blocks := range 9 {
			data := make([]byte, blocks*64)
			for i := range data {
				data[i] = alphabet[r.IntN(len(alphabet))]
			}
			got, want := make([]uint64, blocks), make([]uint64, blocks)
			clean, cleanToo := mark(got, data, ','), markWords(want, data, ',')
			if odd := strings.ContainsFunc(string(data),
				func(r rune) bool { return r == 0 || r > 0x7F }); clean == odd || cleanToo == odd {
				t.Errorf("%q is clean: %v and %v", data, clean, cleanToo)
			}
			if !slices.Equal(got, want) {
				t.Errorf("%q has the marks %x, want %x", data, got, want)
			}
			for i, c := range data {
				if marked := want[i/64]>>(i%64)&1 == 1; marked != (c == ',') {
					t.Errorf("byte %d of %q is marked: %v", i, data, marked)
				}
			}
		}
	}
}

func TestTheFirstMarkFromAPlaceOn(t *testing.T) {
	data := []byte(strings.Repeat("x", 70) + "\n" + strings.Repeat("x", 130) + "\n" + strings.Repeat("x", readAhead))
	end := len(data) - readAhead
	marks, _ := findDelimiters(nil, padded{data}, '\n')
	for from, want := range map[int]string{0: "70 true", 70: "70 true", 71: "201 true", 200: "201 true"} {
		at, ok := marks.first(from, end)
		if got := fmt.Sprint(at, ok); got != want {
			t.Errorf("from %d: %s, want %s", from, got, want)
		}
	}
	if _, ok := marks.first(71, 150); ok {
		t.Error("a line end behind the end is found")
	}
}

func FuzzSplit(f *testing.F) {
	f.Add([]byte("a,b\nc,d\r\n,\n"), byte(2))
	f.Add([]byte("a text longer than a token,b\n\n\r\n,,"), byte(3))
	f.Fuzz(func(t *testing.T, content []byte, width byte) {
		columns := int(width)%20 + 1
		data := paddedWith(content, strings.Repeat("\x00", readAhead))
		var records []span
		for start := 0; start < data.len(); {
			end := bytes.IndexByte(data.bytes()[start:], '\n') + start + 1
			if end == start {
				end = data.len()
			}
			records = append(records, span{start: uint32(start), length: uint32(end - start)})
			start = end
		}
		rows := len(records)
		marks, _ := findDelimiters(nil, data, ',')
		fast, plain := make([]table.Token, rows*columns), make([]table.Token, rows*columns)
		for first := 0; first < rows; first++ {
			got, want := marks.splitAll(data, records, '\n', fast, first, rows),
				marks.splitEach(data, records, '\n', plain, first, rows)
			if got != want {
				t.Fatalf("%d records from record %d on are split, want %d", got, first, want)
			}
			for i := first; i < first+want; i++ {
				for c := range columns {
					if fast[c*rows+i] != plain[c*rows+i] {
						t.Fatalf("cell %d of record %d is %v, want %v", c, i, fast[c*rows+i], plain[c*rows+i])
					}
				}
			}
			first += want
		}
	})
}

// paddedWith returns bytes with what follows them.
func paddedWith(data []byte, ahead string) padded {
	p := paddedOf(len(data))
	copy(p.bytes(), data)
	copy(p.ahead()[len(data):], ahead)
	return p
}
