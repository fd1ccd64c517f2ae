package personal

import "testing"

func TestATextKeepsItsFormAndItsFirstCharacter(t *testing.T) {
	for text, want := range map[string]string{"": "", "Mara Quill": "M••• •••••", "+44 20-7": "+4• ••-•", "ä1": "ä•", " x": " x"} {
		if got := Mask(text); got != want {
			t.Errorf("%q becomes %q, want %q", text, got, want)
		}
	}
}
