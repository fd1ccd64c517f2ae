package export

import (
	"io"

	"github.com/parquet-go/parquet-go"

	"proudsieve/core/table"
)

// parquetFile is Apache Parquet: decimals as DECIMAL with the digits that the column has, dates as DATE, datetimes as TIMESTAMP in
// microseconds without a zone. Numbers of more than 38 digits become text.
var parquetFile = Format{Name: "parquet", Says: "Parquet", MediaType: "application/vnd.apache.parquet", Typed: true, Packs: true, begin: beginParquet}

const (
	// rowsInGroup is how many rows a group has: what is held at once.
	rowsInGroup = 1 << 17
	// digitsInHalf and digitsInWord are how many digits a number of 32 and of 64 bits surely holds, and digitsMost how many a DECIMAL
	// does.
	digitsInHalf, digitsInWord, digitsMost = 9, 18, 38
	// wideBytes is how many bytes a DECIMAL of up to digitsMost digits has.
	wideBytes = 16
)

// ordered is a group whose fields keep their order.
type ordered struct {
	parquet.Group
	fields []parquet.Field
}

func (o ordered) Fields() []parquet.Field { return o.fields }

func beginParquet(out io.Writer, f *File) (writer, error) {
	group := parquet.Group{}
	w := &parquetWriter{columns: f.Columns}
	for i := range f.Columns {
		c := &f.Columns[i]
		group[c.Name] = parquet.Optional(nodeOf(c))
	}
	byName := map[string]parquet.Field{}
	for _, field := range group.Fields() {
		byName[field.Name()] = field
	}
	root := ordered{Group: group}
	for _, c := range f.Columns {
		root.fields = append(root.fields, byName[c.Name])
	}
	w.Writer = parquet.NewWriter(out, parquet.NewSchema("table", root), parquet.Compression(&parquet.Zstd), parquet.MaxRowsPerRowGroup(rowsInGroup),
		parquet.CreatedBy("Proud Sieve", "", ""))
	return w, nil
}

// digits is how many digits a column's numbers have in all.
func (c *Column) digits() int { return max(c.Whole+c.Scale, 1) }

func nodeOf(c *Column) parquet.Node {
	switch c.Type {
	case table.TypeInteger, table.TypeDecimal:
		switch n := c.digits(); {
		case n > digitsMost:
			return parquet.String()
		case n > digitsInWord:
			return parquet.Decimal(c.Scale, n, parquet.FixedLenByteArrayType(wideBytes))
		case c.Type == table.TypeInteger && c.Scale == 0:
			return parquet.Int(64)
		case n <= digitsInHalf:
			return parquet.Decimal(c.Scale, n, parquet.Int32Type)
		default:
			return parquet.Decimal(c.Scale, n, parquet.Int64Type)
		}
	case table.TypeBoolean:
		return parquet.Leaf(parquet.BooleanType)
	case table.TypeDate:
		return parquet.Date()
	case table.TypeDateTime:
		return parquet.TimestampAdjusted(parquet.Microsecond, false)
	}
	return parquet.String()
}

type parquetWriter struct {
	*parquet.Writer
	columns []Column
	rows    []parquet.Row
}

func (w *parquetWriter) write(lines Lines) error {
	w.rows = w.rows[:0]
	for _, line := range lines {
		row := make(parquet.Row, len(line))
		for i, v := range line {
			if v.Kind == table.Missing {
				row[i] = parquet.NullValue().Level(0, 0, i)
			} else {
				row[i] = w.columns[i].parquetValue(v).Level(0, 1, i)
			}
		}
		w.rows = append(w.rows, row)
	}
	_, err := w.WriteRows(w.rows)
	return err
}

func (c *Column) parquetValue(v table.Value) parquet.Value {
	switch v.Kind {
	case table.Number:
		n := c.digits()
		if n > digitsMost {
			return parquet.ByteArrayValue([]byte(v.Number.String()))
		}
		whole := units(v.Number, c.Scale)
		if n <= digitsInHalf && (c.Type != table.TypeInteger || c.Scale > 0) {
			return parquet.Int32Value(int32(whole.Int64()))
		}
		if n <= digitsInWord {
			return parquet.Int64Value(whole.Int64())
		}
		wide := make([]byte, wideBytes) // two's complement, the highest byte first
		if whole.Sign() >= 0 {
			whole.FillBytes(wide)
		} else {
			whole.Not(whole).FillBytes(wide)
			for i := range wide {
				wide[i] = ^wide[i]
			}
		}
		return parquet.FixedLenByteArrayValue(wide)
	case table.Boolean:
		return parquet.BooleanValue(v.True)
	case table.Date:
		return parquet.Int32Value(int32(v.When))
	case table.Instant:
		return parquet.Int64Value(v.When)
	}
	return parquet.ByteArrayValue([]byte(v.Text))
}

func (w *parquetWriter) end(whole bool) error {
	if !whole {
		return nil // a file without its end is none, and is not taken for one
	}
	return w.Close()
}
