package parquet

import (
	"bytes"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"math/big"
	"math/rand/v2"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/parquet-go/parquet-go"

	"proudsieve/core/intake/content"
)

// visit has a column of every type that is written in its own way.
type visit struct {
	ID       int64     `parquet:"id,delta"`
	Small    int32     `parquet:"small,optional"`
	Unsigned uint32    `parquet:"unsigned"`
	Site     string    `parquet:"site,dict"`
	Crew     *string   `parquet:"crew,optional,dict"`
	Depths   *int64    `parquet:"depths,optional,dict"`
	Note     *string   `parquet:"note,optional"`
	Depth    *float64  `parquet:"depth,optional"`
	Rough    float32   `parquet:"rough"`
	Clear    bool      `parquet:"clear"`
	Price    int64     `parquet:"price,decimal(3:18)"`
	Day      int32     `parquet:"day,date"`
	At       time.Time `parquet:"at,timestamp(microsecond)"`
	Key      [16]byte  `parquet:"key,uuid"`
	Raw      []byte    `parquet:"raw"`
	Tags     []string  `parquet:"tags,list"`
	Counts   []int32   `parquet:"counts,list"`
	Lab      struct {
		Name *string `parquet:"name,optional"`
	} `parquet:"lab,optional"`
}

func visitAtRandom(r *rand.Rand, id int) visit {
	v := visit{ID: int64(id), Small: int32(r.IntN(3)), Unsigned: r.Uint32(), Site: fmt.Sprintf("S%d, \"west\"", r.IntN(40)), Rough: float32(r.IntN(1000)) / 8, Clear: r.IntN(2) == 0,
		Price: r.Int64N(2_000_000) - 1_000_000, Day: int32(r.IntN(40_000)) - 5000, At: time.UnixMicro(r.Int64N(4e15) - 1e15).UTC(), Raw: []byte{byte(r.IntN(256)), 'a'}}
	for i := range v.Key {
		v.Key[i] = byte(r.UintN(256))
	}
	if r.IntN(3) > 0 {
		note := strings.Repeat("line\n", r.IntN(4))
		v.Note = &note
		v.Lab.Name = &note
	}
	if r.IntN(6) > 0 {
		crew, depths := strings.Repeat("crew of the upper vale ", r.IntN(3))+strconv.Itoa(r.IntN(9)), r.Int64N(50)
		v.Crew, v.Depths = &crew, &depths
	}
	if r.IntN(5) > 0 {
		depth := float64(r.IntN(100_000)) / 64
		v.Depth = &depth
	}
	for range r.IntN(4) {
		v.Tags = append(v.Tags, fmt.Sprintf("t\"%d", r.IntN(9)))
		v.Counts = append(v.Counts, int32(r.IntN(9)))
	}
	return v
}

// cells are what the cells of a visit are to be, by hand.
func (v visit) cells() []string {
	optional := func(s *string) string {
		if s == nil {
			return ""
		}
		return *s
	}
	small, depth := strconv.Itoa(int(v.Small)), ""
	if v.Small == 0 { // which the library writes as null
		small = ""
	}
	depths := ""
	if v.Depths != nil {
		depths = strconv.FormatInt(*v.Depths, 10)
	}
	if v.Depth != nil {
		depth = strconv.FormatFloat(*v.Depth, 'f', -1, 64)
	}
	at := v.At.Format("2006-01-02 15:04:05.000000")
	at = strings.TrimSuffix(at, ".000000")
	key := fmt.Sprintf("%x-%x-%x-%x-%x", v.Key[:4], v.Key[4:6], v.Key[6:8], v.Key[8:10], v.Key[10:])
	raw := string(v.Raw)
	if v.Raw[0] >= 0x80 {
		raw = fmt.Sprintf("%x", v.Raw)
	}
	tags, counts := "", ""
	for i := range v.Tags {
		tags += fmt.Sprintf(",%q", v.Tags[i])
		counts += fmt.Sprintf(",%d", v.Counts[i])
	}
	if tags != "" {
		tags, counts = "["+tags[1:]+"]", "["+counts[1:]+"]"
	}
	return []string{strconv.FormatInt(v.ID, 10), small, strconv.FormatUint(uint64(v.Unsigned), 10), v.Site, optional(v.Crew), depths, optional(v.Note), depth, strconv.FormatFloat(float64(v.Rough), 'f', -1, 32),
		strconv.FormatBool(v.Clear), new(big.Rat).SetFrac64(v.Price, 1000).FloatString(3), time.Unix(int64(v.Day)*86400, 0).UTC().Format("2006-01-02"), at, key, raw, tags, counts, optional(v.Lab.Name)}
}

func opened(raw []byte) content.Opening {
	return func(context.Context, int64) (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(raw)), nil }
}

func TestColumnsOfEveryTypeInManyPagesAndGroups(t *testing.T) {
	r := rand.New(rand.NewPCG(8, 9))
	for _, rows := range []int{1, 2047, 2049, 9000} {
		var file bytes.Buffer
		w := parquet.NewGenericWriter[visit](&file, parquet.PageBufferSize(3000), parquet.DataPageVersion(1+rows%2), parquet.MaxRowsPerRowGroup(3500))
		var visits []visit
		for i := range rows {
			visits = append(visits, visitAtRandom(r, i))
		}
		if _, err := w.Write(visits); err != nil {
			t.Fatal(err)
		}
		if err := w.Close(); err != nil {
			t.Fatal(err)
		}
		in := content.Stream(t.Context(), &reader{open: opened(file.Bytes())})
		records, err := csv.NewReader(in).ReadAll()
		if err != nil || len(records) != rows {
			t.Fatalf("%d rows: %d are read, %v", rows, len(records), err)
		}
		for i, got := range records {
			for c, want := range visits[i].cells() {
				if got[c] != want {
					t.Fatalf("row %d of %d, cell %d is %q, want %q", i, rows, c, got[c], want)
				}
			}
		}
	}
}

// A file whose bytes are changed is read as something, or refused as damaged; nothing else comes of it.
func TestAFileWithChangedBytesIsRefusedOrRead(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 9))
	var file bytes.Buffer
	w := parquet.NewGenericWriter[visit](&file, parquet.PageBufferSize(2000))
	for i := range 500 {
		if _, err := w.Write([]visit{visitAtRandom(r, i)}); err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	refused := 0
	for range 300 {
		raw := bytes.Clone(file.Bytes())
		for range 1 + r.IntN(4) {
			raw[4+r.IntN(len(raw)-12)] = byte(r.UintN(256))
		}
		_, err := io.Copy(io.Discard, content.Stream(t.Context(), &reader{open: opened(raw)}))
		if err != nil && !errors.Is(err, ErrParquet) {
			t.Fatalf("%v", err)
		}
		if err != nil {
			refused++
		}
	}
	if refused < 50 {
		t.Errorf("%d of 300 were refused", refused)
	}
}
