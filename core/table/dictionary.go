package table

// Dictionary gives the texts of a column their codes, in the order in which they are
// met. It is a hash table with open addressing over tokens, since looking texts up is
// most of the work of reading.
//
// Where nearly every text is a new one it stops looking for all of them: it then only
// knows those met lately again, and a text may have several codes. What counts codes
// has to count by their texts in the end.
type Dictionary struct {
	Texts  []string
	Tokens []Token // of the texts
	// Flawed is what is wrong with the bytes that a text was read from, where anything is.
	Flawed map[uint32]DefectKind

	slots []slot // a power of two
	shift uint8
	lossy bool
	rows  int // looked up so far
	last  uint32
	lastT Token
	any   bool
}

type slot struct {
	token Token
	code  uint32 // + 1; 0 is free
}

const (
	firstSlots = 64
	// decideAt is the number of texts at which a column of nearly nothing but new ones is found out.
	decideAt   = 8192
	lossySlots = 4096
)

// NewDictionary returns an empty dictionary.
func NewDictionary() *Dictionary {
	d := &Dictionary{}
	d.Reset()
	return d
}

// Reset empties the dictionary; it keeps its memory.
func (d *Dictionary) Reset() {
	clear(d.Texts)
	*d = Dictionary{Texts: d.Texts[:0], Tokens: d.Tokens[:0], slots: make([]slot, firstSlots), shift: 64 - 6}
}

// Find returns the code of the text with a token. text is only compared where the
// token does not hold it.
func (d *Dictionary) Find(t Token, text string) (code uint32, ok bool) {
	mask := uint64(len(d.slots) - 1)
	for at := t.Mixed() >> d.shift; ; at = (at + 1) & mask {
		s := &d.slots[at]
		if s.code == 0 {
			return 0, false
		}
		if s.token == t && (t.Inline() || d.Texts[s.code-1] == text) {
			return s.code - 1, true
		}
		if d.lossy {
			return 0, false
		}
	}
}

// Add gives a text that Find does not find its code. of is the token by which it is
// found again, and by which the text is known where it was read as it stands.
func (d *Dictionary) Add(of Token, text string) uint32 {
	code := uint32(len(d.Texts))
	d.Texts = append(d.Texts, text)
	d.Tokens = append(d.Tokens, of)
	d.put(of, code)
	if !d.lossy && len(d.Texts)*2 > len(d.slots) {
		d.grow()
	}
	return code
}

func (d *Dictionary) put(t Token, code uint32) {
	mask := uint64(len(d.slots) - 1)
	at := t.Mixed() >> d.shift
	for !d.lossy && d.slots[at].code != 0 {
		at = (at + 1) & mask
	}
	d.slots[at] = slot{t, code + 1}
}

func (d *Dictionary) grow() {
	if len(d.Texts) >= decideAt && len(d.Texts)*2 > d.rows && d.rows > 0 {
		d.lossy, d.slots, d.shift = true, make([]slot, lossySlots), 64-12
		return
	}
	old := d.slots
	d.slots = make([]slot, 2*len(old))
	d.shift--
	for _, s := range old {
		if s.code != 0 {
			d.put(s.token, s.code-1)
		}
	}
}

// Encoder makes a text of bytes as they stand in a file; ok is false where something is wrong with them.
type Encoder func(raw string) (text string, kind DefectKind)

// Encode looks cells up and writes their codes: cell i is data[starts[at]:ends[at]] with
// at = i*stride+offset, or the same place of extra where the start has its ExtraBit set.
// text and extraText are the same bytes; encode, unless nil, is called for texts met first.
func (d *Dictionary) Encode(codes []uint32, cells Cells, offset, stride int, encode Encoder) {
	starts, ends := cells.Starts, cells.Ends
	mask := uint64(len(d.slots) - 1)
	at := offset
	for i := range codes {
		start, end := starts[at], ends[at]
		at += stride
		data, text := cells.Data, cells.Text
		if start&ExtraBit != 0 {
			start &^= ExtraBit
			data, text = cells.Extra, cells.ExtraText
		}
		t := TokenAt(data, start, end)
		if t == d.lastT && d.any && t.Inline() {
			codes[i] = d.last
			continue
		}
		slotAt := t.Mixed() >> d.shift
		var code uint32
		for {
			s := &d.slots[slotAt]
			if s.code != 0 && s.token == t && (t.Inline() || d.sameRaw(s.code-1, text[start:end], encode)) {
				code = s.code - 1
				break
			}
			if s.code == 0 || d.lossy {
				d.rows += i + 1 // for the decision of grow
				code = d.meet(t, text[start:end], encode)
				d.rows -= i + 1
				mask = uint64(len(d.slots) - 1)
				break
			}
			slotAt = (slotAt + 1) & mask
		}
		codes[i] = code
		d.last, d.lastT, d.any = code, t, true
	}
	d.rows += len(codes)
}

// sameRaw compares a long text in full, since its token is only a hash.
func (d *Dictionary) sameRaw(code uint32, raw string, encode Encoder) bool {
	if d.Texts[code] == raw || encode == nil {
		return d.Texts[code] == raw
	}
	text, _ := encode(raw)
	return d.Texts[code] == text
}

func (d *Dictionary) meet(t Token, raw string, encode Encoder) uint32 {
	text, kind := raw, DefectKind("")
	if encode != nil && !t.Plain() {
		text, kind = encode(raw)
	}
	code := d.Add(t, text)
	if kind != "" {
		if d.Flawed == nil {
			d.Flawed = map[uint32]DefectKind{}
		}
		d.Flawed[code] = kind
	}
	if text != raw {
		d.Tokens[code] = TokenOf(text)
	}
	return code
}

// Adopt returns a column with the same cells whose codes are those of d.
func (d *Dictionary) Adopt(c Column) Column {
	known := make([]uint32, len(c.Texts))
	for i, text := range c.Texts {
		t := TokenOf(text)
		code, ok := d.Find(t, text)
		if !ok {
			code = d.Add(t, text)
		}
		known[i] = code
	}
	codes := make([]uint32, len(c.Codes))
	for i, code := range c.Codes {
		codes[i] = known[code]
	}
	d.rows += len(codes)
	return Column{Texts: d.Texts, Codes: codes}
}

// ExtraBit in a cell's start says that it stands in Extra.
const ExtraBit = 1 << 31

// Cells are the places of cells in the bytes of a part, row by row. Both Data and Extra
// have TokenSlack bytes more than their text.
type Cells struct {
	Starts, Ends    []uint32
	Data, Extra     []byte
	Text, ExtraText string
}
