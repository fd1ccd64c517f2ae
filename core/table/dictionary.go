package table

import (
	"encoding/binary"
	"math"
	"slices"
	"unsafe"

	"github.com/zeebo/xxh3"
)

// Dictionary gives the texts of a column their codes, in the order in which they are
// met. It is a hash table with open addressing over tokens, since looking texts up is
// most of the work of reading.
//
// Where nearly every text is a new one, looking them up is of no use. Whoever finds that
// out (MostlyNew) sets Apart: each cell of a batch then gets a code of its own, which is
// good until the next one.
type Dictionary struct {
	Texts  []string
	Tokens []Token // of the texts
	// Flawed is what is wrong with the bytes that a text was read from, where anything is.
	Flawed map[uint32]DefectKind
	// Apart says that each cell of a batch gets a code of its own, in the order of the rows.
	Apart bool
	// Sparing, set before first use, leaves short texts out of Texts; Text makes them from their tokens.
	Sparing bool

	slots    []uint32 // codes + 1, 0 where free: a power of two, at most a quarter of them taken, an eighth of few
	shift    uint8
	arena    []byte // where the texts that Encode meets are kept
	held     int    // bytes of such texts
	codes    []uint32
	each     []uint32 // 0, 1, 2, …
	placed   bool     // texts stand in the bytes of a batch, and are good until the next one
	glanced  []byte   // texts given by Glance
	own      []Token  // the memory of Tokens, while those of a batch stand there
	repeated int      // of the cells looked up last, those with the text of the one before
	lastLong uint32   // the code of the long text looked up last
	// fetched is written so that the loads for it are not thought needless.
	fetched uint32
	short   [16]byte // of a text that its token holds
}

const (
	firstSlots = 512 // of 4 bytes each; so many that few texts hardly ever meet in one
	// Blocks of texts begin small, since a table may have thousands of columns, and double.
	firstBlock = 1 << 10
	arenaBlock = 64 << 10
)

// MostlyNew reports whether a column that has shown so many different texts in so many
// rows is one of nearly nothing but different ones. In a wide table fewer texts tell, since its stretches are short.
func MostlyNew(texts, rows, columns int) bool {
	enough := max(enoughTexts*usualColumns/max(columns, usualColumns), fewestTexts)
	return texts >= enough && texts*10 > rows*9 || texts >= 4*enough && texts*2 > rows
}

const (
	enoughTexts = 1024
	fewestTexts = 128
)

// NewDictionary returns an empty dictionary.
func NewDictionary() *Dictionary {
	d := &Dictionary{}
	d.Reset()
	return d
}

// Reset empties the dictionary; it keeps its memory, but for that of the texts, which stay good.
func (d *Dictionary) Reset() {
	clear(d.Texts)
	slots := d.slots
	if len(slots) < firstSlots {
		slots = make([]uint32, firstSlots)
	}
	clear(slots[:firstSlots])
	if d.own != nil {
		d.Tokens = d.own
	}
	*d = Dictionary{Sparing: d.Sparing, Texts: d.Texts[:0], Tokens: d.Tokens[:0], slots: slots[:firstSlots],
		shift: 64 - 9, codes: d.codes, each: d.each, glanced: d.glanced}
}

// Held returns how many bytes the texts take.
func (d *Dictionary) Held() int { return d.held }

// Text returns the text of a code.
func (d *Dictionary) Text(code uint32) string {
	if len(d.Texts) > 0 && d.Texts[code] != "" {
		if d.placed {
			return d.keep([]byte(d.Texts[code]))
		}
		return d.Texts[code]
	}
	t := d.Tokens[code]
	if !t.Inline() || t.Len() == 0 {
		return ""
	}
	var raw [16]byte
	text := d.keep(t.Bytes(&raw))
	if len(d.Texts) > 0 && !d.placed {
		d.Texts[code] = text
	}
	return text
}

// Glance is Text for whoever keeps nothing of the text beyond the batch, not even as the key of a map.
func (d *Dictionary) Glance(code uint32) string {
	if len(d.Texts) > 0 && d.Texts[code] != "" {
		return d.Texts[code]
	}
	t := d.Tokens[code]
	if !t.Inline() || t.Len() == 0 {
		return ""
	}
	var raw [16]byte
	text := t.Bytes(&raw)
	if len(text) > cap(d.glanced)-len(d.glanced) {
		d.glanced = make([]byte, 0, arenaBlock)
	}
	start := len(d.glanced)
	d.glanced = append(d.glanced, text...)
	return unsafe.String(&d.glanced[start], len(text))
}

// slotOf returns where a token is looked for first.
func (d *Dictionary) slotOf(t Token) uint64 { return t.mixed() >> (d.shift & 63) }

// Find returns the code of the text with a token. text is only compared where the
// token does not hold it.
func (d *Dictionary) Find(t Token, text string) (code uint32, ok bool) {
	mask := uint64(len(d.slots) - 1)
	for at := d.slotOf(t); d.slots[at] != 0; at = (at + 1) & mask {
		if code := d.slots[at] - 1; d.Tokens[code] == t && (t.Inline() || d.Texts[code] == text) {
			return code, true
		}
	}
	return 0, false
}

// Expect fetches from memory what Find will look at; it pays for several texts in a row, since
// waiting for memory is what takes the time.
func (d *Dictionary) Expect(t Token) { d.fetched |= d.slots[d.slotOf(t)] }

// Add gives a text that Find does not find its code.
func (d *Dictionary) Add(t Token, text string) uint32 {
	code := uint32(len(d.Texts))
	d.Texts = append(d.Texts, text)
	d.Tokens = append(d.Tokens, t)
	d.put(t, code)
	if len(d.Texts)*4 > len(d.slots) || len(d.Texts)*8 > len(d.slots) && len(d.slots) <= cachedSlots {
		d.grow()
	}
	return code
}

func (d *Dictionary) put(t Token, code uint32) {
	mask := uint64(len(d.slots) - 1)
	at := d.slotOf(t)
	for d.slots[at] != 0 {
		at = (at + 1) & mask
	}
	d.slots[at] = code + 1
}

func (d *Dictionary) grow() {
	size := 2 * len(d.slots)
	if cap(d.slots) >= size {
		d.slots = d.slots[:size]
		clear(d.slots)
	} else {
		d.slots = make([]uint32, size)
	}
	d.shift--
	for code, t := range d.Tokens {
		d.put(t, uint32(code))
	}
}

// Encoder makes a text of bytes as they stand in a file; kind says what is wrong with them.
type Encoder func(raw string) (text string, kind DefectKind)

// ExtraBit in a cell's start says that it stands in Extra.
const ExtraBit = 1 << 31

// Cells are the cells of a column in the bytes of a part: short ones by their tokens,
// long ones Placed in Data, or in Extra where the start has its ExtraBit set.
type Cells struct {
	Tokens      []Token
	Data, Extra []byte
	Clean       bool // nothing is wrong with the bytes of any of them
}

// place returns the bytes of a long cell.
func (c *Cells) place(t Token) []byte {
	start, end := uint32(t.Lo), uint32(t.Lo>>32)
	if start&ExtraBit != 0 {
		return c.Extra[start&^ExtraBit : end]
	}
	return c.Data[start:end]
}

// Text returns the text of cell i as it stands in the bytes.
func (c *Cells) Text(i int) string {
	var room [16]byte
	return string(c.Bytes(i, &room))
}

// Bytes returns the bytes of cell i, which are not to be written to; those of a short one stand in room.
func (c *Cells) Bytes(i int, room *[16]byte) []byte {
	if t := c.Tokens[i]; !t.Inline() {
		return c.place(t)
	}
	return c.Tokens[i].Bytes(room)
}

// Length returns how many bytes cell i has.
func (c *Cells) Length(i int) int {
	t := c.Tokens[i]
	if t.Inline() {
		return t.Len()
	}
	return int(uint32(t.Lo>>32) - uint32(t.Lo)&^ExtraBit)
}

// Bytes writes a short text into raw.
func (t Token) Bytes(raw *[16]byte) []byte {
	binary.LittleEndian.PutUint64(raw[:], t.Lo)
	binary.LittleEndian.PutUint64(raw[8:], t.Hi)
	return raw[:t.Hi>>56]
}

// block is how many cells Encode looks up together: their places in a large table are
// fetched first, all at once, since waiting for memory is what takes the time.
const block = 128

// cachedSlots is the size of a table that stays in the processor's first cache.
const cachedSlots = 2048

// Encode looks cells up and returns their codes, which are good until it is called
// again. encode is called for texts met first that hold more than printable ASCII
// characters.
func (d *Dictionary) Encode(cells Cells, encode Encoder) []uint32 {
	if d.Apart {
		return d.encodeEach(cells, encode)
	}
	if cap(d.codes) < len(cells.Tokens) {
		d.codes = make([]uint32, len(cells.Tokens)*5/4)
	}
	codes := d.codes[:len(cells.Tokens)]
	for first := 0; first < len(codes); first += block {
		tokens := cells.Tokens[first:min(first+block, len(codes))]
		d.lookUp(tokens, codes[first:][:len(tokens)], &cells, encode)
	}
	return codes
}

// lookUp writes the codes of up to block cells.
func (d *Dictionary) lookUp(tokens []Token, codes []uint32, cells *Cells, encode Encoder) {
	if d.repeated > block*3/4 { // then it pays to compare with the one before
		d.repeated = 0
		for i, t := range tokens {
			if i > 0 && t == tokens[i-1] {
				codes[i] = codes[i-1]
				d.repeated++
				continue
			}
			codes[i] = d.seek(t, cells, encode)
		}
		return
	}
	if len(d.slots) > cachedSlots {
		d.fetched = fetch(tokens, d.slots, d.shift)
	}
	for i := 0; ; i++ {
		if i = match(tokens, codes, i, d.slots, d.Tokens, d.shift); i == len(tokens) {
			break
		}
		codes[i] = d.seek(tokens[i], cells, encode)
	}
	d.repeated = repeated(codes)
}

// fetch reads the places of a table where tokens are looked for first.
func fetch(tokens []Token, slots []uint32, shift uint8) (all uint32) {
	for i := range tokens {
		all |= slots[tokens[i].mixed()>>(shift&63)]
	}
	return all
}

// match writes the codes of tokens from the first one on, and returns the first whose place in
// the table has another text; len(tokens) where there is none.
func match(tokens []Token, codes []uint32, first int, slots []uint32, known []Token, shift uint8) int {
	codes = codes[:len(tokens)]
	for i := first; i < len(tokens); i++ {
		t := tokens[i]
		code := slots[t.mixed()>>(shift&63)] - 1
		if uint(code) >= uint(len(known)) || known[code] != t {
			return i
		}
		codes[i] = code
	}
	return len(tokens)
}

// repeated counts the codes that are that of the one before.
func repeated(codes []uint32) (n int) {
	last := uint32(math.MaxUint32)
	for _, code := range codes {
		if code == last {
			n++
		}
		last = code
	}
	return n
}

// encodeEach gives every cell a code of its own, since hardly any two are alike. It uses the
// tokens where they are, and long texts where they stand in the bytes, if it is Sparing.
func (d *Dictionary) encodeEach(cells Cells, encode Encoder) []uint32 {
	n := len(cells.Tokens)
	if d.own == nil {
		if d.own = d.Tokens[:0]; d.own == nil {
			d.own = []Token{}
		}
	}
	d.Tokens, d.Texts, d.Flawed = cells.Tokens, d.Texts[:0], nil
	if !cells.Clean { // whoever tells of a flaw looks for the bytes where the cells say they are
		d.Tokens = slices.Clone(cells.Tokens)
	}
	d.placed, d.glanced = d.Sparing && cells.Clean, d.glanced[:0]
	if d.Sparing && cells.Clean && allInline(cells.Tokens) {
		return d.ownCodes(n)
	}
	d.Texts = slices.Grow(d.Texts, n)[:n]
	clear(d.Texts)
	for code, t := range d.Tokens {
		if d.Sparing && (t.Plain() || cells.Clean && t.Inline()) || t.Hi == 0 {
			continue
		}
		var raw []byte
		if t.Inline() {
			raw = t.Bytes(&d.short)
		} else {
			raw = cells.place(t)
			d.Tokens[code] = tokenOfHash(xxh3.Hash128(raw))
		}
		if d.placed {
			d.Texts[code] = unsafe.String(&raw[0], len(raw))
			continue
		}
		text, kind := d.keep(raw), DefectKind("")
		if !cells.Clean {
			text, kind = encode(text)
		}
		d.Texts[code] = text
		d.flaw(uint32(code), kind)
	}
	return d.ownCodes(n)
}

func allInline(tokens []Token) bool {
	kinds := uint64(0)
	for i := range tokens {
		kinds |= tokens[i].Hi
	}
	return kinds>>60 == 0
}

// ownCodes are the codes of so many cells that have one each.
func (d *Dictionary) ownCodes(n int) []uint32 {
	for code := len(d.each); code < n; code++ {
		d.each = append(d.each, uint32(code))
	}
	return d.each[:n]
}

// flaw notes what is wrong with the bytes of a text, if anything.
func (d *Dictionary) flaw(code uint32, kind DefectKind) {
	if kind == "" {
		return
	}
	if d.Flawed == nil {
		d.Flawed = map[uint32]DefectKind{}
	}
	d.Flawed[code] = kind
}

// seek looks a text up, and adds it where it is not found. The tokens of long ones are
// made here; they are compared in full, since their tokens are only hashes.
func (d *Dictionary) seek(t Token, cells *Cells, encode Encoder) uint32 {
	var short [16]byte
	var raw []byte
	long := !t.Inline()
	if long {
		raw = cells.place(t)
		if last := d.lastLong; int(last) < len(d.Texts) && len(d.Flawed) == 0 && d.Texts[last] == string(raw) {
			return last
		}
		t = tokenOfHash(xxh3.Hash128(raw))
	}
	mask := uint64(len(d.slots) - 1)
	for at := d.slotOf(t); d.slots[at] != 0; at = (at + 1) & mask {
		if code := d.slots[at] - 1; d.Tokens[code] == t && (!long || d.same(code, raw, encode)) {
			if long {
				d.lastLong = code
			}
			return code
		}
	}
	if d.Sparing && t.Plain() {
		return d.Add(t, "")
	}
	if !long {
		raw = t.Bytes(&short)
	}
	text, kind := d.keep(raw), DefectKind("")
	if !cells.Clean && !t.Plain() && len(raw) > 0 {
		text, kind = encode(text)
	}
	code := d.Add(t, text)
	d.flaw(code, kind)
	return code
}

func (d *Dictionary) same(code uint32, raw []byte, encode Encoder) bool {
	if d.Texts[code] == string(raw) {
		return true
	}
	text, _ := encode(string(raw))
	return d.Texts[code] == text
}

// keep copies bytes into a string without an allocation for each: the arena is only
// ever appended to within its capacity, so that what strings point at stays as it is.
func (d *Dictionary) keep(raw []byte) string {
	if len(raw) == 0 {
		return ""
	}
	if len(raw) > cap(d.arena)-len(d.arena) {
		d.arena = make([]byte, 0, max(min(max(2*cap(d.arena), firstBlock), arenaBlock), len(raw)))
	}
	start := len(d.arena)
	d.arena = append(d.arena, raw...)
	d.held += len(raw)
	return unsafe.String(&d.arena[start], len(raw))
}

// Adopt returns a column with the same cells whose codes are those of d.
func (d *Dictionary) Adopt(c Column) Column {
	if d.Apart {
		if d.own != nil {
			d.Tokens, d.own = d.own, nil
		}
		d.Texts, d.Tokens, d.Flawed = d.Texts[:0], d.Tokens[:0], nil
		for i := range c.Codes {
			text := c.At(i)
			d.Texts, d.Tokens = append(d.Texts, text), append(d.Tokens, TokenOf(text))
		}
		return Column{Texts: d.Texts, Codes: d.ownCodes(len(c.Codes))}
	}
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
	return Column{Texts: d.Texts, Codes: codes}
}

// Copy is Add with a copy of the text, so that nothing else is kept in memory with it.
func (d *Dictionary) Copy(t Token, text string) uint32 {
	if t.Inline() {
		var raw [16]byte
		return d.Add(t, d.keep(t.Bytes(&raw)))
	}
	return d.Add(t, d.keep([]byte(text)))
}
