package access

import "testing"

func TestRolesAreNarrowedToNoMore(t *testing.T) {
	for _, c := range []struct{ role, to, want Role }{
		{Steward, "", Steward}, {Steward, Reader, Reader}, {Steward, Steward, Steward}, {Steward, Certifier, Reader}, {Steward, Administrator, Reader},
		{Certifier, Steward, Reader}, {Administrator, Certifier, Certifier}, {Administrator, Administrator, Administrator}, {Reader, Steward, Reader}, {Steward, "nobody", "nobody"},
	} {
		if got := c.role.Narrowed(c.to); got != c.want {
			t.Errorf("a %s as %q is a %s, want %s", c.role, c.to, got, c.want)
		}
	}
	if Role("nobody").May(Read) {
		t.Error("a role that is not known may read")
	}
}
