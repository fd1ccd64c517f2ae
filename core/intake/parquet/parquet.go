// Package parquet reads Apache Parquet. Members of groups become columns by their dotted
// path, as in JSON; repeated values stand in one cell as a JSON array. Dates and times
// are written as ISO 8601 has them, decimals with their scale, bytes that are no text
// in hexadecimal.
package parquet

import (
	"bytes"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"math/big"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/parquet-go/parquet-go"
	"github.com/parquet-go/parquet-go/format"

	"proudsieve/core/intake/content"
	"proudsieve/core/intake/delimited"
	"proudsieve/core/table"
)

// reader reads Apache Parquet.
type reader struct {
	open  content.Opening
	names []string
}

func init() {
	content.Register(content.Format{
		Name: "parquet", Title: "Parquet", Because: "it starts with the four bytes of the format", Place: 40,
		Sure:       true,
		Recognises: func(head []byte) bool { return bytes.HasPrefix(head, []byte("PAR1")) },
		Converter:  func(c *content.Content, _ string) content.Converter { return &reader{open: c.Places} },
	})
}

// Streams implements content.Streaming.
func (*reader) Streams() {}

// ErrParquet says that a Parquet file is damaged.
var ErrParquet = errors.New("the Parquet file is damaged or cut off; ask its provider to send it again")

func (p *reader) file(ctx context.Context, f func(*parquet.File) error) (err error) {
	at, size, done, err := content.RandomAccess(ctx, p.open)
	if err != nil {
		return err
	}
	defer done()
	defer func() { // the library trusts what a damaged file says of itself
		if broken := recover(); broken != nil {
			err = fmt.Errorf("%w (%v)", ErrParquet, broken)
		}
	}()
	if err := soundFooter(at, size); err != nil {
		return fmt.Errorf("%w (%w)", ErrParquet, err)
	}
	file, err := parquet.OpenFile(at, size, parquet.SkipBloomFilters(true), parquet.SkipPageIndex(true))
	if err != nil {
		return fmt.Errorf("%w (%w)", ErrParquet, err)
	}
	if err := soundPages(at, file); err != nil {
		return fmt.Errorf("%w (a page: %w)", ErrParquet, err)
	}
	return f(file)
}

// Columns implements content.Columned.
func (p *reader) Columns(ctx context.Context) ([]string, error) {
	p.names = nil
	err := p.file(ctx, func(file *parquet.File) error {
		for _, path := range file.Schema().Columns() {
			p.names = append(p.names, strings.Join(path, "."))
		}
		if len(p.names) > content.ColumnLimit {
			return delimited.ErrTooMany
		}
		return nil
	})
	return p.names, err
}

// Convert implements content.Converter. Records are numbered from 1, since the file has no lines.
func (p *reader) Convert(ctx context.Context, to *content.Records) error {
	return p.file(ctx, func(file *parquet.File) error {
		var writers []func(parquet.Value) string
		var repeated []bool
		for _, path := range file.Schema().Columns() {
			leaf, ok := file.Schema().Lookup(path...)
			if !ok {
				return fmt.Errorf("%w (it has no column %s)", ErrParquet, strings.Join(path, "."))
			}
			writers = append(writers, textOf(leaf.Node.Type().LogicalType()))
			repeated = append(repeated, leaf.MaxRepetitionLevel > 0)
		}
		cells, number := make([]string, len(writers)), int64(0)
		for _, group := range file.RowGroups() {
			rows := group.Rows()
			buffer := make([]parquet.Row, 64)
			for {
				if err := ctx.Err(); err != nil {
					return errors.Join(err, rows.Close())
				}
				n, err := rows.ReadRows(buffer)
				for _, row := range buffer[:n] {
					number++
					if err := to.Write(rowCells(cells, row, writers, repeated)); err != nil {
						return errors.Join(err, rows.Close())
					}
				}
				if errors.Is(err, io.EOF) || err == nil && n == 0 {
					break
				}
				if err != nil {
					return errors.Join(fmt.Errorf("record %d: %w (%w)", number+1, ErrParquet, err), rows.Close())
				}
			}
			if err := rows.Close(); err != nil {
				return err
			}
		}
		return nil
	})
}

func rowCells(cells []string, row parquet.Row, writers []func(parquet.Value) string, repeated []bool) []string {
	clear(cells)
	for _, v := range row {
		c := v.Column()
		if c < 0 || c >= len(cells) || v.IsNull() && !repeated[c] {
			continue
		}
		if !repeated[c] {
			cells[c] = writers[c](v)
			continue
		}
		if v.IsNull() {
			continue
		}
		text := writers[c](v)
		if v.Kind() == parquet.ByteArray || v.Kind() == parquet.FixedLenByteArray {
			text = jsonText(text)
		}
		if cells[c] == "" {
			cells[c] = "[" + text + "]"
		} else {
			cells[c] = strings.TrimSuffix(cells[c], "]") + "," + text + "]"
		}
	}
	return cells
}

// jsonText quotes a text as JSON does.
func jsonText(text string) string {
	var b strings.Builder
	b.WriteByte('"')
	for _, r := range text {
		switch {
		case r == '"' || r == '\\':
			b.WriteByte('\\')
			b.WriteRune(r)
		case r < ' ':
			fmt.Fprintf(&b, `\u%04x`, r)
		default:
			b.WriteRune(r)
		}
	}
	b.WriteByte('"')
	return b.String()
}

// textOf returns how the values of a logical type are written.
func textOf(t *format.LogicalType) func(parquet.Value) string {
	if t != nil {
		switch kind := t.Value.(type) {
		case *format.DateType:
			return func(v parquet.Value) string {
				return time.Unix(int64(v.Int32())*86400, 0).UTC().Format("2006-01-02")
			}
		case *format.TimestampType:
			unit := kind.Unit.Value.Duration()
			return func(v parquet.Value) string { return instant(v.Int64(), unit) }
		case *format.DecimalType:
			return func(v parquet.Value) string { return decimalText(v, int(kind.Scale)) }
		case *format.IntType:
			if !kind.IsSigned {
				return func(v parquet.Value) string {
					if v.Kind() == parquet.Int32 {
						return strconv.FormatUint(uint64(v.Uint32()), 10)
					}
					return strconv.FormatUint(v.Uint64(), 10)
				}
			}
		case *format.UUIDType:
			return func(v parquet.Value) string {
				h := hex.EncodeToString(v.ByteArray())
				if len(h) != 32 {
					return h
				}
				return h[:8] + "-" + h[8:12] + "-" + h[12:16] + "-" + h[16:20] + "-" + h[20:]
			}
		}
	}
	return func(v parquet.Value) string {
		switch v.Kind() {
		case parquet.Float:
			return strconv.FormatFloat(float64(v.Float()), 'f', -1, 32)
		case parquet.Double:
			return strconv.FormatFloat(v.Double(), 'f', -1, 64)
		case parquet.Int96:
			return int96(v)
		case parquet.ByteArray, parquet.FixedLenByteArray:
			if raw := v.ByteArray(); !utf8.Valid(raw) {
				return hex.EncodeToString(raw)
			}
			return string(v.ByteArray())
		}
		return v.String()
	}
}

// instant writes a point in time given in units since 1970.
func instant(n int64, unit time.Duration) string {
	per := int64(time.Second / unit)
	seconds, rest := n/per, n%per
	if rest < 0 {
		seconds, rest = seconds-1, rest+per
	}
	when := time.Unix(seconds, rest*int64(unit)).UTC()
	if rest == 0 {
		return when.Format("2006-01-02 15:04:05")
	}
	return when.Format("2006-01-02 15:04:05.999999999")
}

// int96 reads the old way to write points in time: nanoseconds of a day, and its Julian number.
func int96(v parquet.Value) string {
	raw := v.Int96()
	nanos := int64(raw[1])<<32 | int64(raw[0])
	const julianOf1970 = 2440588
	return instant((int64(raw[2])-julianOf1970)*86_400_000_000+nanos/1000, time.Microsecond)
}

func decimalText(v parquet.Value, scale int) string {
	n := new(big.Int)
	switch v.Kind() {
	case parquet.Int32:
		n.SetInt64(int64(v.Int32()))
	case parquet.Int64:
		n.SetInt64(v.Int64())
	default: // two's complement, the highest byte first
		raw := v.ByteArray()
		n.SetBytes(raw)
		if len(raw) > 0 && raw[0]&0x80 != 0 {
			n.Sub(n, new(big.Int).Lsh(big.NewInt(1), uint(8*len(raw))))
		}
	}
	return table.DecimalFromBig(n, scale).String()
}
