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
	Eased       []Eased        `json:"eased,omitempty"`
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

// Waiver is what somebody accepted of a finding, for a reason.
type Waiver struct {
	Dataset string `json:"dataset"`
	Rule    string `json:"rule"`
	Reason  string `json:"reason"`
	By      string `json:"by"`
	// Until is the last day on which it holds; empty for one without an end, or of one delivery.
	Until string `json:"until"`
	// Covers says in words what is accepted, and Only that it holds for this delivery alone.
	Covers string `json:"covers,omitempty"`
	Only   bool   `json:"only_this_delivery,omitempty"`
	At     string `json:"at,omitempty"` // when it was given, RFC 3339
	// Rows is how many rows of the finding it accepts, with the other waivers of the same finding, where the table has any.
	Rows int64 `json:"rows,omitempty"`
}

// Eased is a decision by which a rulebook asks less than before.
type Eased struct {
	Dataset  string   `json:"dataset"`
	Version  int      `json:"version"` // of the rulebook that asks less
	Says     []string `json:"says"`    // what it asks less
	Reason   string   `json:"reason"`
	By       string   `json:"by"`
	AgreedBy string   `json:"agreed_by"` // a second person, or the same one where none was asked for
	At       string   `json:"at"`        // RFC 3339
}

// AcceptedFact is a finding that stands.
type AcceptedFact struct {
	Rule     string            `json:"rule"`
	Severity rulebook.Severity `json:"severity"`
	Found    string            `json:"found"`
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
