package leads

import (
	"fmt"
	"math/big"
	"regexp"
	"strings"

	"proudsieve/core/table"
)

var (
	mail  = regexp.MustCompile(`^[^@\s]+@[^@\s]+\.[A-Za-z]{2,}$`)
	phone = regexp.MustCompile(`^(\+|00|0)[0-9 ()/.\-]{7,22}$`)
	iban  = regexp.MustCompile(`^[A-Z]{2}[0-9]{2}[A-Z0-9]{11,30}$`)
	birth = regexp.MustCompile(`(?i)(^|[^a-z])(birth|dob|born|geburt|naissance)`)
)

// Personal is the kind of lead that tells of personal data.
const Personal = "personal"

// personalShare is how many of a hundred of the texts that are known look like personal data.
const personalShare = 60

func init() {
	Register(Kind{
		Name: Personal, Finds: "personal data: e-mail addresses, telephone, card and account numbers (by their check digits), dates of birth (by the column's name)",
		Threshold: "three texts, and 60 % of those that are known", Like: "%d columns seem to hold personal data: %s.",
		OfColumn: func(t *Table, c *Column) []Lead {
			what := personal(c)
			if what == "" {
				return nil
			}
			return []Lead{{Sure: 0.6, Share: 0.3, Says: fmt.Sprintf("%s seems to hold %s, which is personal data.", c.Name, what)}}
		},
	})
}

// personal says which personal data a column seems to hold; empty for none.
func personal(c *Column) string {
	if birth.MatchString(c.Name) && (c.Dates != nil || c.Type == table.TypeText && c.Filled > 0) {
		return "dates of birth"
	}
	if c.Dates != nil || len(c.Looks.Orders) > 0 {
		return ""
	}
	texts := c.seen()
	for _, k := range []struct {
		what string
		is   func(string) bool
	}{
		{"e-mail addresses", mail.MatchString},
		{"account numbers", isAccount},
		{"card numbers", isCard},
		{"telephone numbers", isPhone},
	} {
		found := 0
		for _, one := range texts {
			if k.is(table.Trim(one.Text)) {
				found++
			}
		}
		if found >= 3 && found*100 >= len(texts)*personalShare {
			return k.what
		}
	}
	return ""
}

func isPhone(text string) bool {
	if !phone.MatchString(text) {
		return false
	}
	n := len(digits(text))
	// 00712 and 2024-05-01 are none: a sign of dialling, or two separators and no date.
	return n >= 8 && n <= 15 && (text[0] == '+' || strings.HasPrefix(text, "00") && n >= 10 ||
		strings.ContainsAny(text, " /-") && !strings.Contains(text, "."))
}

var withoutGaps = strings.NewReplacer(" ", "", "-", "")

// isCard reports whether a text is 13 to 19 digits that end with their check digit (ISO/IEC 7812, Luhn).
func isCard(text string) bool {
	bare := withoutGaps.Replace(text)
	if len(bare) < 13 || len(bare) > 19 || digits(bare) != bare {
		return false
	}
	sum := 0
	for i := range len(bare) {
		d := int(bare[len(bare)-1-i] - '0')
		if i%2 == 1 {
			if d *= 2; d > 9 {
				d -= 9
			}
		}
		sum += d
	}
	return sum%10 == 0
}

// isAccount reports whether a text is an account number with its check digits (ISO 13616, modulo 97).
func isAccount(text string) bool {
	bare := strings.ReplaceAll(strings.ToUpper(text), " ", "")
	if !iban.MatchString(bare) {
		return false
	}
	var number strings.Builder
	for _, r := range bare[4:] + bare[:4] {
		if r >= 'A' {
			fmt.Fprint(&number, int(r-'A')+10)
		} else {
			number.WriteRune(r)
		}
	}
	n, ok := new(big.Int).SetString(number.String(), 10)
	return ok && new(big.Int).Mod(n, big.NewInt(97)).Int64() == 1
}
