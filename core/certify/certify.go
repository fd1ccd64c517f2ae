// Package certify decides whether a table may be certified, states what was
// checked and changed, and signs and verifies the statement.
//
// A certificate is a JSON Web Signature (RFC 7515, compact form) with Ed25519
// (RFC 8037) over the statement in canonical JSON (RFC 8785). The statement names
// the table by the SHA-256 of its bytes, so that one changed byte is enough to
// tell the two apart.
package certify

import (
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/go-jose/go-jose/v4"
	"github.com/gowebpki/jcs"

	"proudsieve/core/audit"
	"proudsieve/core/rulebook"
)

// Statement is what a certificate says.
type Statement struct {
	Kind        string         `json:"kind"` // StatementKind
	Dataset     string         `json:"dataset"`
	Table       TableFacts     `json:"table"`
	Rulebook    Version        `json:"rulebook"`
	Audit       AuditFacts     `json:"audit"`
	Inputs      []InputFacts   `json:"inputs"`
	Merge       *MergeFacts    `json:"merge,omitempty"`
	Waivers     []Waiver       `json:"waivers"`
	Accepted    []AcceptedFact `json:"accepted"` // findings that stand and do not stop the table
	CertifiedBy string         `json:"certified_by"`
	CertifiedAt string         `json:"certified_at"` // RFC 3339, UTC
}

// StatementKind marks our statements and their version.
const StatementKind = "proudsieve certificate 1"

// TableFacts name the table.
type TableFacts struct {
	SHA256  string            `json:"sha256"`
	Bytes   int64             `json:"bytes"`
	Rows    int64             `json:"rows"`
	Columns []ColumnFacts     `json:"columns"`
	Sums    map[string]string `json:"sums"`
	// Marks is the SHA-256 of the file that says which cells are estimates, and Estimates how many are; left out where none
	// are.
	Marks     string `json:"marks_sha256,omitempty"`
	Estimates int64  `json:"estimates,omitempty"`
	// Are says whether the audit counted them as missing or as values.
	Are string `json:"estimates_are,omitempty"`
}

// ColumnFacts are a column's scores, as text with four digits after the point, so that the signed bytes are plain.
type ColumnFacts struct {
	Name    string `json:"name"`
	Type    string `json:"type"`
	Score   string `json:"score"`
	Filled  int64  `json:"filled"`
	Missing int64  `json:"missing"`
	// Estimated is how many of the filled cells are estimates.
	Estimated int64 `json:"estimated,omitempty"`
}

// Version names a declaration by its number and bytes.
type Version struct {
	Name    string `json:"name"`
	Version int    `json:"version"`
	SHA256  string `json:"sha256"`
}

// AuditFacts are the audit's outcome.
type AuditFacts struct {
	Score    string         `json:"score"`
	PassMark string         `json:"pass_mark"`
	Rules    []audit.Judged `json:"rules"`
}

// InputFacts trace one input to the bytes that arrived.
type InputFacts struct {
	Dataset       string            `json:"dataset"`
	TableSHA256   string            `json:"table_sha256"`
	Delivery      string            `json:"delivery_sha256"`
	FileName      string            `json:"file_name"`
	FixPlan       *Version          `json:"fix_plan,omitempty"`
	ChangeLog     string            `json:"change_log_sha256,omitempty"`
	RowsDelivered int64             `json:"rows_delivered"`
	RowsHanded    int64             `json:"rows_handed_over"`
	CellsChanged  int64             `json:"cells_changed"`
	SumsDelivered map[string]string `json:"sums_delivered"`
	SumsHanded    map[string]string `json:"sums_handed_over"`
	FixedBy       string            `json:"fixed_by,omitempty"`
}

// MergeFacts say how the inputs were put together.
type MergeFacts struct {
	Plan       Version         `json:"plan"`
	MergedBy   string          `json:"merged_by"`
	Accounting json.RawMessage `json:"accounting"`
}

// Waiver is a finding accepted by somebody, for a reason, until a date.
type Waiver struct {
	Dataset string `json:"dataset"`
	Rule    string `json:"rule"`
	Reason  string `json:"reason"`
	By      string `json:"by"`
	Until   string `json:"until"`
}

// AcceptedFact is a finding that stands.
type AcceptedFact struct {
	Rule     string            `json:"rule"`
	Severity rulebook.Severity `json:"severity"`
	Found    string            `json:"found"`
}

// Facts is what Obstacles looks at.
type Facts struct {
	Origin      string // of the table: only a merged or cleaned one is certified
	Ruled       bool   // the dataset has a rulebook
	Unbalanced  string // where the rows of what it was made of do not add up to its own; empty where they do
	Audited     bool   // by the newest version of its dataset's rulebook
	Passed      bool
	Score       float64
	PassMark    float64
	Findings    []audit.Finding
	Waived      map[string]int64 // rules of this dataset with a waiver in force, and for how many rows it was given
	OpenStops   []OpenIssue      // of this dataset and of the inputs', neither closed nor waived
	FixedBy     []string         // who applied the fixes and the merge
	WaivedBy    []string         // who gave the waivers
	Withdrawn   string           // why the table, or one that it was made of, was withdrawn; empty where none was
	CertifiedBy string
}

// OpenIssue is an issue of severity major.
type OpenIssue struct {
	Number  int64
	Dataset string
	Title   string
}

// Obstacles says each thing that stands between the table and a certificate. An
// empty list means that it may be certified.
func Obstacles(f Facts) []string {
	out := []string{}
	add := func(format string, args ...any) { out = append(out, fmt.Sprintf(format, args...)) }
	if f.Origin == "delivery" {
		add("The table is a delivery as it arrived; only a cleaned or merged table is certified. Apply a fix plan first, even one without steps.")
	}
	if f.Withdrawn != "" {
		add("The table was withdrawn: %s", f.Withdrawn)
	}
	if f.Unbalanced != "" {
		add("Its rows are not accounted for: %s. Run the merge again.", f.Unbalanced)
	}
	if !f.Ruled {
		add("The dataset has no rulebook, so that nothing says what must hold of the table. Declare one; what could hold is proposed on the page of the dataset.")
	} else if !f.Audited {
		add("The table has no finished audit by the newest version of its rulebook. Start one.")
	} else if !f.Passed {
		stops := 0
		for _, finding := range f.Findings {
			if finding.Severity != rulebook.Major {
				continue
			}
			if rows, ok := f.Waived[finding.Rule]; ok && finding.Rows > rows {
				add("The rule %s is broken by %d rows more than the %d that were waived: %s", finding.Rule,
					finding.Rows-rows, rows, finding.Found)
				stops++
			} else if !ok {
				add("The rule %s, which stops the table, is broken: %s", finding.Rule, finding.Found)
				stops++
			}
		}
		if f.Score < f.PassMark {
			add("The score of the table is %.2f, below its pass mark of %g.", f.Score, f.PassMark)
		}
	}
	for _, issue := range f.OpenStops {
		add("Issue %d of %s stops the table and is neither closed nor waived: %s", issue.Number, issue.Dataset,
			issue.Title)
	}
	for _, who := range f.FixedBy {
		if who == f.CertifiedBy {
			add("%s applied the fixes, so somebody else has to certify the table.", who)
			break
		}
	}
	for _, who := range f.WaivedBy {
		if who == f.CertifiedBy {
			add("%s waived what was found, so somebody else has to certify the table.", who)
			break
		}
	}
	return out
}

// Errors that can be told apart with errors.Is.
var (
	ErrSignature = errors.New("the certificate was not signed with this key, or was changed after it was signed")
	ErrTable     = errors.New("the table is not the one that was certified")
	ErrMarks     = errors.New("the certificate speaks of a table with estimates, and the marks of these are missing or others")
	ErrMalformed = errors.New("this is not a certificate of Proud Sieve")
)

// NewKey makes a signing key as a private JSON Web Key.
func NewKey() ([]byte, error) {
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	return json.Marshal(jose.JSONWebKey{Key: private, KeyID: keyID(private.Public().(ed25519.PublicKey)),
		Algorithm: string(jose.EdDSA), Use: "sig"})
}

func keyID(public ed25519.PublicKey) string {
	sum := sha256.Sum256(public)
	return hex.EncodeToString(sum[:8])
}

func readKey(key []byte) (jose.JSONWebKey, error) {
	var k jose.JSONWebKey
	if err := json.Unmarshal(key, &k); err != nil || !k.Valid() {
		return k, errors.New("the key is not a JSON Web Key (RFC 7517) of kind OKP with curve Ed25519")
	}
	return k, nil
}

// PublicKey returns the public half of a private JSON Web Key.
func PublicKey(private []byte) ([]byte, error) {
	k, err := readKey(private)
	if err != nil {
		return nil, err
	}
	return json.Marshal(k.Public())
}

// Sign returns the certificate for a statement.
func Sign(s *Statement, private []byte) (string, error) {
	k, err := readKey(private)
	if err != nil {
		return "", err
	}
	plain, err := json.Marshal(s)
	if err != nil {
		return "", err
	}
	canonical, err := jcs.Transform(plain)
	if err != nil {
		return "", err
	}
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.EdDSA, Key: k},
		(&jose.SignerOptions{}).WithType("proudsieve+jws"))
	if err != nil {
		return "", err
	}
	signed, err := signer.Sign(canonical)
	if err != nil {
		return "", err
	}
	return signed.CompactSerialize()
}

// Verify holds a certificate against a public key and the bytes of a table, and against the marks of its estimates, nil for
// none. It returns the statement where all of it holds, else ErrSignature, ErrTable, ErrMarks or ErrMalformed.
func Verify(table, marks io.Reader, certificate string, public []byte) (*Statement, error) {
	s, err := Open(certificate, public)
	if err != nil {
		return nil, err
	}
	digest := sha256.New()
	n, err := io.Copy(digest, table)
	if err != nil {
		return nil, err
	}
	if got := hex.EncodeToString(digest.Sum(nil)); got != s.Table.SHA256 {
		return nil, fmt.Errorf("%w: its %d bytes have the SHA-256 %s, and the certificate speaks of %d bytes with %s",
			ErrTable, n, got, s.Table.Bytes, s.Table.SHA256)
	}
	return s, s.holdsMarks(marks)
}

// holdsMarks says whether marks are those that the statement speaks of.
func (s *Statement) holdsMarks(marks io.Reader) error {
	if s.Table.Marks == "" {
		return nil
	}
	if marks == nil {
		return fmt.Errorf("%w: %d cells are estimates, and a file with the SHA-256 %s says which; give that one too", ErrMarks, s.Table.Estimates, s.Table.Marks)
	}
	digest := sha256.New()
	if _, err := io.Copy(digest, marks); err != nil {
		return err
	}
	if got := hex.EncodeToString(digest.Sum(nil)); got != s.Table.Marks {
		return fmt.Errorf("%w: these have the SHA-256 %s, and the certificate speaks of %s", ErrMarks, got, s.Table.Marks)
	}
	return nil
}

// Open checks the signature of a certificate and returns its statement.
func Open(certificate string, public []byte) (*Statement, error) {
	k, err := readKey(public)
	if err != nil {
		return nil, err
	}
	signed, err := jose.ParseSignedCompact(strings.TrimSpace(certificate), []jose.SignatureAlgorithm{jose.EdDSA})
	if err != nil {
		return nil, fmt.Errorf("%w: %v", ErrMalformed, err)
	}
	payload, err := signed.Verify(k.Public())
	if err != nil {
		return nil, ErrSignature
	}
	var s Statement
	if err := json.Unmarshal(payload, &s); err != nil || s.Kind != StatementKind {
		return nil, ErrMalformed
	}
	return &s, nil
}
