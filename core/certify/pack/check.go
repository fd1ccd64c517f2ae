package pack

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"maps"
	"os"
	"reflect"
	"slices"
	"time"

	"proudsieve/core/audit"
	"proudsieve/core/certify"
	"proudsieve/core/document"
	"proudsieve/core/fix"
	"proudsieve/core/intake"
	"proudsieve/core/intake/content"
	"proudsieve/core/merge"
	"proudsieve/core/relation"
	"proudsieve/core/rulebook"
	"proudsieve/core/scratch"
	"proudsieve/core/table"
	"proudsieve/core/waiver"
)

// State says what became of a figure of a certificate.
type State string

// The states.
const (
	Holds     State = "holds"     // it was computed again, and is the same
	Differs   State = "differs"   // it was computed again, and is another
	Unchecked State = "unchecked" // what it takes is not at hand
)

// Line is what was computed again, or could not be.
type Line struct {
	About string `json:"about"` // the table, by its dataset and file
	State State  `json:"state"`
	Says  string `json:"says"`
}

// Report says of every figure of a certificate what became of it, in the order of the chain.
type Report struct {
	Lines []Line `json:"lines"`
}

// Of lists the lines of a state.
func (r *Report) Of(s State) []Line {
	return slices.DeleteFunc(slices.Clone(r.Lines), func(l Line) bool { return l.State != s })
}

// Files opens files by their SHA-256; nil where there is none.
type Files interface {
	ByDigest(digest string) func() (io.ReadCloser, error)
}

// checking is one check of a certificate.
type checking struct {
	said    *certify.Statement
	files   Files
	workers int
	report  *Report
	spooled map[string]*os.File
	results map[int]*audit.Result // of the links that were judged again
	link    *certify.Link
}

// Check computes every figure of a certificate again, from files that are known by what they hold. What is not at hand is told as
// such, and never passed over.
func Check(ctx context.Context, o *certify.Opened, files Files, workers int) (*Report, error) {
	c := &checking{said: o.Statement, files: files, workers: workers, report: &Report{Lines: []Line{}}, spooled: map[string]*os.File{}, results: map[int]*audit.Result{}}
	defer func() {
		for _, f := range c.spooled {
			_ = f.Close()
		}
	}()
	if len(c.said.Chain) == 0 {
		c.link = &certify.Link{Dataset: c.said.Dataset, FileName: "the table"}
		c.tell(Unchecked, "The certificate is of an earlier version and tells no chain; of it only the bytes can be verified.")
		return c.report, nil
	}
	for i := range c.said.Chain {
		c.link = &c.said.Chain[i]
		if err := c.checkLink(ctx, i); err != nil {
			return nil, err
		}
	}
	if err := c.checkWaivers(ctx); err != nil {
		return nil, err
	}
	return c.report, c.checkStatement()
}

func (c *checking) tell(s State, format string, args ...any) {
	about := c.link.Origin + " of " + c.link.Dataset + ", " + c.link.FileName
	c.report.Lines = append(c.report.Lines, Line{About: about, State: s, Says: fmt.Sprintf(format, args...)})
}

// same tells that a figure is the same, or how it differs.
func (c *checking) same(what string, said, got any) bool {
	if reflect.DeepEqual(said, got) {
		return true
	}
	c.tell(Differs, "The certificate says %s %v, and it is %v.", what, said, got)
	return false
}

// at opens the bytes with a digest, which are spooled once, so that they can be read from any place; nil where they are not at hand.
func (c *checking) at(digest string) (content.Opener, error) {
	if !c.has(digest) {
		return nil, nil
	}
	if c.spooled[digest] == nil {
		in, err := c.files.ByDigest(digest)()
		if err != nil {
			return nil, err
		}
		defer in.Close()
		f, err := scratch.File("pack")
		if err != nil {
			return nil, err
		}
		c.spooled[digest] = f
		if _, err := io.Copy(f, in); err != nil {
			return nil, err
		}
	}
	f := c.spooled[digest]
	return func(offset int64) (io.ReadCloser, error) {
		return io.NopCloser(io.NewSectionReader(f, offset, 1<<62)), nil
	}, nil
}

// text reads the declaration with a digest; false where it is not at hand.
func (c *checking) text(v *certify.Version) ([]byte, bool) {
	open := c.files.ByDigest(v.SHA256)
	if open == nil {
		return nil, false
	}
	in, err := open()
	if err != nil {
		return nil, false
	}
	defer in.Close()
	raw, err := io.ReadAll(io.LimitReader(in, smallMost))
	return raw, err == nil
}

// book reads a rulebook; nil where it is not at hand.
func (c *checking) book(v *certify.Version) (*rulebook.Rulebook, error) {
	if v == nil {
		return nil, nil
	}
	raw, ok := c.text(v)
	if !ok {
		return nil, nil
	}
	return rulebook.Parse(raw)
}

// opened opens a table as it is read by a rulebook.
func (c *checking) opened(ctx context.Context, digest, origin string, reading json.RawMessage, book *rulebook.Rulebook) (*intake.File, *rulebook.Rulebook, error) {
	open, err := c.at(digest)
	if err != nil || open == nil {
		return nil, nil, err
	}
	if origin != "delivery" {
		var own rulebook.TableReading
		if len(reading) > 0 {
			if err := json.Unmarshal(reading, &own); err != nil {
				return nil, nil, err
			}
		}
		book = book.ForTable(own)
	}
	file, err := intake.Open(ctx, open, book.Reading)
	return file, book, err
}

// checkLink checks one table of the chain: how it was made, and its audit. A table that is not at hand, and could be made again,
// is at hand then.
func (c *checking) checkLink(ctx context.Context, i int) error {
	var ends func(*audit.Result) error // holds what accounts for the table against what is in it
	var err error
	switch c.link.Origin {
	case "cleaned":
		ends, err = c.checkFix(ctx)
	case "merged":
		ends, err = c.checkMerge(ctx)
	}
	if err == nil {
		err = c.checkAudit(ctx, i)
	}
	if err != nil || ends == nil || c.results[i] == nil {
		return err
	}
	if err := ends(c.results[i]); err != nil {
		c.tell(Differs, "What accounts for it is not of the table: %v.", err)
	}
	return nil
}

// has reports whether the bytes with a digest are at hand.
func (c *checking) has(digest string) bool {
	return digest != "" && (c.spooled[digest] != nil || c.files.ByDigest(digest) != nil)
}

// remade is a table that is made again: its digest, and its bytes where these are not at hand.
type remade struct {
	hash.Hash
	file *os.File
}

func (c *checking) remake(digest string) (*remade, error) {
	m := &remade{Hash: sha256.New()}
	var err error
	if !c.has(digest) {
		m.file, err = scratch.File("pack")
	}
	return m, err
}

// Write implements io.Writer.
func (m *remade) Write(p []byte) (int, error) {
	if m.file != nil {
		if _, err := m.file.Write(p); err != nil {
			return 0, err
		}
	}
	return m.Hash.Write(p)
}

// kept puts the bytes at hand where they are what was wanted, and returns their digest.
func (c *checking) kept(m *remade, wanted string) string {
	got := hex.EncodeToString(m.Sum(nil))
	switch {
	case m.file == nil:
	case got == wanted:
		c.spooled[wanted] = m.file
	default:
		_ = m.file.Close()
	}
	return got
}

// checkAudit judges a table again.
func (c *checking) checkAudit(ctx context.Context, i int) error {
	l, j := c.link, c.link.Judged
	if there := c.said.Table.There; there != nil {
		c.tell(Unchecked, "Its audit: it lies in a database, and none of its rows are at hand. It is %s.", there.Says())
		return nil
	}
	if j == nil || j.Rulebook == nil {
		c.tell(Unchecked, "It was judged by no rulebook.")
		return nil
	}
	book, err := c.book(j.Rulebook)
	if err != nil {
		return err
	}
	if book == nil {
		c.tell(Unchecked, "Its audit: the rulebook %s version %d is not at hand.", j.Rulebook.Name, j.Rulebook.Version)
		return nil
	}
	file, book, err := c.opened(ctx, l.SHA256, l.Origin, l.Reading, book)
	if err != nil {
		c.tell(Differs, "It cannot be read: %v.", err)
		return nil
	}
	if file == nil {
		c.tell(Unchecked, "Its audit: the table with the SHA-256 %s is not at hand.", l.SHA256)
		return nil
	}
	defer file.Close()
	missing, err := c.beside(ctx, book, j)
	if err != nil {
		return err
	}
	if missing != "" {
		c.tell(Unchecked, "Its audit: %s.", missing)
		return nil
	}
	if l.Marks != "" {
		if file.Estimated, err = c.marks(l.Marks); err != nil {
			return err
		}
		if file.Estimated == nil {
			c.tell(Unchecked, "Its audit: the marks of its estimates are not at hand.")
			return nil
		}
	}
	result, err := audit.Run(ctx, file, book, c.workers)
	if err != nil {
		return err
	}
	c.results[i] = result
	ok := c.same("rows", j.Rows, result.Rows)
	ok = c.same("a score of", j.Score, certify.Score(result.Score)) && ok
	ok = c.same("as its verdict", verdict(j.Passed), verdict(result.Passed)) && ok
	ok = c.same("as sums", j.Sums, result.Sums) && ok
	found := certify.FindingsOf(result)
	said := slices.Clone(j.Findings)
	for k := range said {
		said[k].Became = "" // which no figure tells
	}
	if earlier := certify.FindingsAsIs(result); reflect.DeepEqual(said, earlier) {
		found = earlier
	}
	ok = c.same("as findings", said, found) && ok
	if ok {
		c.tell(Holds, "Its audit: %s, a score of %s, %s.", document.Counted(result.Rows, "row", "rows"), j.Score, document.Counted(int64(len(found)), "finding", "findings"))
	}
	return nil
}

func verdict(passed *bool) string {
	switch {
	case passed == nil:
		return "none"
	case *passed:
		return "passed"
	}
	return "fell short"
}

func (c *checking) marks(digest string) (*table.Marks, error) {
	open := c.files.ByDigest(digest)
	if open == nil {
		return nil, nil
	}
	in, err := open()
	if err != nil {
		return nil, err
	}
	defer in.Close()
	return table.ReadMarks(in)
}

// beside gives a rulebook what the table was judged against besides its own rows; it says what of that is not at hand.
func (c *checking) beside(ctx context.Context, book *rulebook.Rulebook, j *certify.JudgedLink) (missing string, err error) {
	at, err := time.Parse(time.RFC3339, j.At)
	if err != nil {
		return "", fmt.Errorf("the time %q of an audit: %w", j.At, err)
	}
	b := &rulebook.Beside{Today: at.Unix() / 86_400, Used: map[string]string{}}
	for _, digest := range j.Past {
		var past rulebook.Past
		raw, ok := c.text(&certify.Version{SHA256: digest})
		if !ok || json.Unmarshal(raw, &past) != nil {
			return "the profile of an earlier table, with the SHA-256 " + digest + ", is not at hand", nil
		}
		b.Past = append(b.Past, past)
	}
	for _, one := range j.Beside {
		if one.Rulebook == nil || !c.has(one.Rulebook.SHA256) || !c.has(one.SHA256) {
			return fmt.Sprintf("it was held against a table of %s, which with its rulebook is not at hand (SHA-256 %s)", one.Dataset, one.SHA256), nil
		}
	}
	b.Open = func(ctx context.Context, dataset string) (table.Source, *rulebook.Rulebook, error) {
		k := slices.IndexFunc(j.Beside, func(f certify.BesideFact) bool { return f.Dataset == dataset })
		if k < 0 {
			return nil, nil, fmt.Errorf("the certificate names no table of %s", dataset)
		}
		one := &j.Beside[k]
		theirs, err := c.book(one.Rulebook)
		if err != nil {
			return nil, nil, err
		}
		return c.opened(ctx, one.SHA256, one.Origin, one.Reading, theirs)
	}
	book.Beside = b
	return "", nil
}

// ruled reads the rulebook of a dataset that counted when the table was made; nil where it is not at hand.
func (c *checking) ruled(dataset string) (*rulebook.Rulebook, error) {
	at := slices.IndexFunc(c.link.Ruled, func(v certify.Version) bool { return v.Name == dataset })
	if at < 0 {
		return nil, nil
	}
	return c.book(&c.link.Ruled[at])
}

// from returns the links that a table was made of.
func (c *checking) from() (out []*certify.Link) {
	for _, digest := range c.link.Of {
		for k := range c.said.Chain {
			if o := &c.said.Chain[k]; o.SHA256 == digest && o != c.link && !slices.Contains(out, o) {
				out = append(out, o)
				break
			}
		}
	}
	return out
}

// alike compares two values as JSON, in which numbers and the order of names are what they are.
func alike(said json.RawMessage, got any) (bool, error) {
	raw, err := json.Marshal(got)
	if err != nil {
		return false, err
	}
	var a, b any
	if err := errors.Join(json.Unmarshal(said, &a), json.Unmarshal(raw, &b)); err != nil {
		return false, err
	}
	return reflect.DeepEqual(a, b), nil
}

// checkFix runs the fix plan again, or where the delivery is not at hand holds the ledger against itself and the change log.
func (c *checking) checkFix(ctx context.Context) (ends func(*audit.Result) error, err error) {
	l := c.link
	var ledger fix.Ledger
	if err := json.Unmarshal(l.Ledger, &ledger); err != nil {
		return nil, fmt.Errorf("the ledger of %s: %w", l.Dataset, err)
	}
	ends = ledger.Holds
	if err := ledger.Balance(); err != nil {
		c.tell(Differs, "Its ledger does not add up: %v.", err)
		return ends, nil
	}
	from := c.from()
	source, ok := c.text(l.Plan)
	if len(from) != 1 || !ok {
		c.tell(Unchecked, "Its making: the fix plan %s version %d is not at hand. The ledger adds up.", l.Plan.Name, l.Plan.Version)
		return ends, nil
	}
	arrived, err := c.ruled(from[0].Dataset)
	if err != nil {
		return nil, err
	}
	if arrived == nil {
		c.tell(Unchecked, "Its making: the rulebook of %s that counted then is not at hand. The ledger adds up.", from[0].Dataset)
		return ends, nil
	}
	file, book, err := c.opened(ctx, from[0].SHA256, from[0].Origin, from[0].Reading, arrived)
	if err != nil {
		return nil, err
	}
	if file == nil {
		return ends, c.checkLog(&ledger, from[0])
	}
	defer file.Close()
	return ends, c.runFix(ctx, file, book, source, &ledger)
}

// runFix makes the cleaned table once more.
func (c *checking) runFix(ctx context.Context, file *intake.File, book *rulebook.Rulebook, source []byte, said *fix.Ledger) error {
	l := c.link
	if l.Judged != nil {
		if _, err := c.beside(ctx, book, l.Judged); err != nil {
			return err
		}
	}
	plan, err := fix.Parse(source, book)
	if err != nil {
		return err
	}
	if l.Plan.Earlier {
		plan = plan.AsEarlier()
	}
	in := fix.Input{Source: file, Book: book}
	if l.Dataset != plan.Dataset {
		if in.Result, err = c.ruled(l.Dataset); err != nil {
			return err
		}
	}
	made, err := c.remake(l.SHA256)
	if err != nil {
		return err
	}
	log, marks, rows := sha256.New(), sha256.New(), sha256.New()
	ledger, err := fix.Run(ctx, in, plan, c.workers, fix.Outputs{Table: made, Log: log, Marks: marks, Map: rows})
	if err != nil {
		c.tell(Unchecked, "Its making: the fix plan cannot be run here: %v.", err)
		return nil
	}
	for k := range ledger.Steps {
		ledger.Steps[k].Examples, ledger.Steps[k].Undecided = []fix.LogEntry{}, nil
	}
	ok := c.same("that the plan makes the table", l.SHA256, c.kept(made, l.SHA256))
	ok = c.same("that its change log is", l.ChangeLog, hex.EncodeToString(log.Sum(nil))) && ok
	if l.RowMap != "" {
		ok = c.same("that its rows are from", l.RowMap, hex.EncodeToString(rows.Sum(nil))) && ok
	}
	if l.Marks != "" {
		ok = c.same("that the marks of its estimates are", l.Marks, hex.EncodeToString(marks.Sum(nil))) && ok
	}
	same, err := alike(l.Ledger, ledger)
	if err != nil {
		return err
	}
	if !same {
		c.tell(Differs, "The certificate has another ledger than the plan makes: %s", ledgersDiffer(said, ledger))
	}
	if ok && same {
		c.tell(Holds, "Its making: version %d of %s makes it of the delivery again, byte for byte, with the same ledger and change log.", l.Plan.Version, l.Plan.Name)
	}
	return nil
}

// ledgersDiffer says in what two ledgers differ first.
func ledgersDiffer(said, got *fix.Ledger) string {
	for k := range min(len(said.Steps), len(got.Steps)) {
		a, b := said.Steps[k], got.Steps[k]
		if a.Cells != b.Cells || a.Rows != b.Rows || !maps.Equal(a.Sums, b.Sums) {
			return fmt.Sprintf("step %d changed %d cells, took out %d rows and moved sums by %v, and not %d, %d and %v.", a.Step, b.Cells, b.Rows, b.Sums, a.Cells, a.Rows, a.Sums)
		}
	}
	return fmt.Sprintf("it ends with %d rows after %d steps, and not with %d after %d.", got.RowsOut, len(got.Steps), said.RowsOut, len(said.Steps))
}

// checkLog counts what the change log has for each step.
func (c *checking) checkLog(ledger *fix.Ledger, from *certify.Link) error {
	l := c.link
	away := fmt.Sprintf("the delivery %s with the SHA-256 %s is not at hand", from.FileName, from.SHA256)
	open, err := c.at(l.ChangeLog)
	if err != nil {
		return err
	}
	if open == nil {
		c.tell(Unchecked, "Its making: %s, nor is its change log. The ledger adds up.", away)
		return nil
	}
	cells, rows, err := fix.Log{In: c.spooled[l.ChangeLog]}.Counts()
	if err != nil {
		c.tell(Differs, "Its change log cannot be read: %v.", err)
		return nil
	}
	for _, s := range ledger.Steps {
		if cells[s.Step] != s.Cells || rows[s.Step] != s.Rows {
			c.tell(Differs, "Step %d changed %d cells and took out %d rows by the certificate, and %d and %d by the change log.", s.Step, s.Cells, s.Rows, cells[s.Step], rows[s.Step])
			return nil
		}
	}
	c.tell(Holds, "Its change log has what the ledger says of each step, and the ledger adds up.")
	c.tell(Unchecked, "Its making was not run again: %s.", away)
	return nil
}

// checkMerge runs the merge again, or holds its accounting against itself.
func (c *checking) checkMerge(ctx context.Context) (ends func(*audit.Result) error, err error) {
	var accounting merge.Accounting
	if err := json.Unmarshal(c.link.Accounting, &accounting); err != nil {
		return nil, fmt.Errorf("the accounting of %s: %w", c.link.Dataset, err)
	}
	ends = func(result *audit.Result) error {
		if accounting.Rows != result.Rows {
			return fmt.Errorf("the accounting of the merge ends with %d rows, and the table has %d", accounting.Rows, result.Rows)
		}
		return nil
	}
	if err := accounting.Balance(); err != nil {
		c.tell(Differs, "Its accounting does not add up: %v.", err)
		return ends, nil
	}
	return ends, c.runMerge(ctx)
}

// runMerge makes the merged table once more, where all that it was made of is at hand.
func (c *checking) runMerge(ctx context.Context) error {
	l := c.link
	source, ok := c.text(l.Plan)
	if !ok {
		c.tell(Unchecked, "Its making: the merge %s version %d is not at hand. The accounting adds up.", l.Plan.Name, l.Plan.Version)
		return nil
	}
	plan, err := merge.Parse(source)
	if err != nil {
		return err
	}
	var inputs merge.Inputs
	for _, name := range plan.Datasets() {
		for _, from := range c.from() {
			if from.Dataset != name {
				continue
			}
			in, missing, err := c.input(ctx, from)
			if err != nil {
				return err
			}
			if missing != "" {
				c.tell(Unchecked, "Its making was not run again: %s. The accounting adds up.", missing)
				return nil
			}
			inputs = append(inputs, *in)
		}
	}
	made, err := c.remake(l.SHA256)
	if err != nil {
		return err
	}
	rows := sha256.New()
	again, err := merge.Run(ctx, plan, inputs, c.workers, merge.Outputs{Table: made, Unmet: io.Discard, Sources: rows})
	if err != nil {
		c.tell(Differs, "The merge cannot be run again: %v.", err)
		return nil
	}
	ok = c.same("that the merge makes the table", l.SHA256, c.kept(made, l.SHA256))
	if l.RowMap != "" {
		ok = c.same("that its rows are from", l.RowMap, hex.EncodeToString(rows.Sum(nil))) && ok
	}
	same, err := alike(l.Accounting, again)
	if err != nil {
		return err
	}
	if !same {
		c.tell(Differs, "The certificate has another accounting than the merge makes.")
	}
	if ok && same {
		c.tell(Holds, "Its making: version %d of the merge %s makes it of %s again, byte for byte, with the same accounting.", l.Plan.Version, l.Plan.Name, document.Counted(int64(len(inputs)), "table", "tables"))
	}
	return nil
}

// input opens a table as it takes part in a merge; missing says what of it is not at hand.
func (c *checking) input(ctx context.Context, from *certify.Link) (in *merge.Input, missing string, err error) {
	book, err := c.ruled(from.Dataset)
	if err != nil {
		return nil, "", err
	}
	if book == nil {
		return nil, fmt.Sprintf("the rulebook of %s that counted then is not at hand", from.Dataset), nil
	}
	file, book, err := c.opened(ctx, from.SHA256, from.Origin, from.Reading, book)
	if err != nil {
		return nil, "", err
	}
	if file == nil {
		return nil, fmt.Sprintf("the table of %s with the SHA-256 %s is not at hand", from.Dataset, from.SHA256), nil
	}
	if from.Marks != "" {
		if file.Estimated, err = c.marks(from.Marks); err != nil {
			return nil, "", err
		}
		if file.Estimated == nil {
			return nil, fmt.Sprintf("the marks of the estimates of %s are not at hand", from.Dataset), nil
		}
	}
	in = &merge.Input{Dataset: from.Dataset, Table: from.Number, Name: from.FileName, Source: file, Book: book, Digest: from.SHA256}
	for k := range c.said.Chain {
		if len(from.Of) == 1 && c.said.Chain[k].SHA256 == from.Of[0] {
			in.Name = c.said.Chain[k].FileName // of what it was delivered as
			break
		}
	}
	return in, "", nil
}

// checkStatement holds what the certificate says of its own table against what was computed.
func (c *checking) checkStatement() error {
	last := len(c.said.Chain) - 1
	c.link = &c.said.Chain[last]
	ok := c.same("in its chain the table", c.said.Table.SHA256, c.link.SHA256)
	if c.said.Table.Marks != "" {
		marks, err := c.marks(c.said.Table.Marks)
		if err != nil {
			return err
		}
		if marks == nil {
			c.tell(Unchecked, "How many cells are estimates: their marks are not at hand.")
		} else {
			ok = c.same("as estimates", c.said.Table.Estimates, marks.Count()) && ok
		}
	}
	result := c.results[last]
	if result == nil {
		c.tell(Unchecked, "What is said of its columns, rules and waivers: its audit was not computed again.")
		return nil
	}
	ok = c.same("rows", c.said.Table.Rows, result.Rows) && ok
	ok = c.same("a score of", c.said.Audit.Score, certify.Score(result.Score)) && ok
	ok = c.same("a pass mark of", c.said.Audit.PassMark, certify.Score(result.PassMark)) && ok
	ok = c.same("as sums", c.said.Table.Sums, result.Sums) && ok
	columns := certify.ColumnsOf(result)
	ok = c.same("as columns", c.said.Table.Columns, columns) && ok
	ok = c.same("as rules", c.said.Audit.Rules, result.Rules) && ok
	accepted := certify.AcceptedOf(result)
	if earlier := certify.AcceptedAsIs(result); reflect.DeepEqual(c.said.Accepted, earlier) {
		accepted = earlier
	}
	ok = c.same("as accepted", c.said.Accepted, accepted) && ok
	if ok {
		c.tell(Holds, "What is said of it: %s, %s, %s.", document.Counted(int64(len(columns)), "column", "columns"), document.Counted(int64(len(result.Rules)), "rule", "rules"),
			document.Counted(int64(len(accepted)), "finding", "findings"))
	}
	return nil
}

// checkWaivers counts again what the waivers of the findings in each table cover.
func (c *checking) checkWaivers(ctx context.Context) error {
	for i := range c.said.Chain {
		result := c.results[i]
		if result == nil {
			continue // which is told
		}
		c.link = &c.said.Chain[i]
		scopes, said := map[string][]waiver.Scope{}, map[string]int64{}
		for _, w := range c.said.Waivers {
			if w.Table != c.link.SHA256 || w.Dataset != c.link.Dataset || len(w.Scope) == 0 {
				continue
			}
			if w.Subject != "" {
				c.tell(Unchecked, "What the waiver of %s covers: it is of an issue of a %s, and not of a rule.", w.Rule, w.Subject)
				continue
			}
			var s waiver.Scope
			if err := json.Unmarshal(w.Scope, &s); err != nil {
				return err
			}
			scopes[w.Rule], said[w.Rule] = append(scopes[w.Rule], s), w.Rows
		}
		for _, rule := range slices.Sorted(maps.Keys(scopes)) {
			if err := c.checkWaiver(ctx, result, rule, scopes[rule], said[rule]); err != nil {
				return err
			}
		}
	}
	return nil
}

func (c *checking) checkWaiver(ctx context.Context, result *audit.Result, rule string, scopes []waiver.Scope, said int64) error {
	covered := &waiver.Covered{}
	if f := result.Finding(rule); f != nil {
		var err error
		if covered, err = waiver.Cover(ctx, func() (*relation.Table, error) {
			file, book, err := c.judgedTable(ctx)
			if err != nil {
				return nil, err
			}
			return &relation.Table{Source: file, Book: result.Settle(book), Workers: c.workers}, nil
		}, waiver.Finding{Says: f.Found, Rows: f.Rows, Of: result.Rows, Set: f.AllRows}, scopes); err != nil {
			return err
		}
	}
	if c.same("that waivers of "+rule+" cover rows", said, covered.Covered) {
		c.tell(Holds, "The waivers of %s cover %s of %s.", rule, document.Grouped(covered.Covered), document.Counted(covered.Rows, "row", "rows"))
	}
	return nil
}

// judgedTable opens a table of the chain once more, as it was judged.
func (c *checking) judgedTable(ctx context.Context) (*intake.File, *rulebook.Rulebook, error) {
	book, err := c.book(c.link.Judged.Rulebook)
	if err != nil {
		return nil, nil, err
	}
	return c.opened(ctx, c.link.SHA256, c.link.Origin, c.link.Reading, book)
}
