package certify_test

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"

	"proudsieve/core/certify"
)

// A certificate is tied to the exact bytes that it speaks of.
func ExampleVerify() {
	const table = "station,value\nS1,1\n"
	sum := sha256.Sum256([]byte(table))
	private, _ := certify.NewKey()
	public, _ := certify.PublicKey(private)
	signed, err := certify.Sign(&certify.Statement{Kind: certify.StatementKind, Dataset: "survey",
		Table:       certify.TableFacts{SHA256: hex.EncodeToString(sum[:]), Bytes: int64(len(table)), Rows: 1},
		CertifiedBy: "Jonas Fell"}, private)
	if err != nil {
		fmt.Println(err)
		return
	}
	statement, err := certify.Verify(strings.NewReader(table), nil, signed, public)
	fmt.Println(statement.CertifiedBy, err)
	_, err = certify.Verify(strings.NewReader(table+"S2,2\n"), nil, signed, public)
	fmt.Println(errors.Is(err, certify.ErrTable))
	// Output:
	// Jonas Fell <nil>
	// true
}
