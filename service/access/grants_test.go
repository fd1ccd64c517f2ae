package access

import "testing"

func TestAGrantAllowsWhatItsLevelHas(t *testing.T) {
	for _, one := range []struct {
		may   Level
		right Right
		want  bool
	}{
		{ToRead, Read, true}, {ToRead, Discuss, false}, {ToRead, Work, false}, {ToRead, Certify, false},
		{ToWork, Read, true}, {ToWork, Discuss, true}, {ToWork, Work, true}, {ToWork, Certify, false},
		{ToCertify, Read, true}, {ToCertify, Discuss, true}, {ToCertify, Work, false}, {ToCertify, Certify, true},
		{ToWork, Administer, false}, {ToCertify, Administer, false}, {"", Read, false},
	} {
		if got := (Grant{May: one.may}).Allows(one.right); got != one.want {
			t.Errorf("a grant to %s allows to %s: %v", one.may, one.right, got)
		}
	}
	for grant, want := range map[Grant]bool{{ToRead, false}: false, {ToRead, true}: true, {ToWork, false}: true, {ToCertify, false}: false} {
		if grant.SeesPersonal() != want {
			t.Errorf("%+v sees personal data: %v", grant, !want)
		}
	}
}
