package console_test

import (
	"testing"

	"proudsieve/service"
	"proudsieve/service/access"
	"proudsieve/service/provider"
	"proudsieve/service/provider/standin"
	"proudsieve/service/servicetest"
)

// Somebody comes in by the provider of their organisation, and is told why when they do not.
func TestSomebodyComesInByAProvider(t *testing.T) {
	t.Parallel()
	office, err := standin.Start("proud-sieve", "")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(office.Close)
	r := servicetest.Start(t, func(o *service.Options) {
		o.Provider = &provider.Settings{Title: "the survey office", Issuer: office.URL, Client: office.Client, Roles: map[string]access.Role{"stewards": access.Steward}}
	})
	p := sitDown(t, r.URL)
	p.visit("/issues")
	p.sees("Sign in by the survey office", "or by a token:", "Your token")
	office.Comes(map[string]any{"sub": "1", "name": "Anna Reed", "groups": "walkers"}, nil)
	p.presses("Sign in by the survey office")
	p.sees("None of your groups has a role here.")
	office.Comes(map[string]any{"sub": "1", "name": "Anna Reed", "groups": "stewards"}, nil)
	p.presses("Sign in by the survey office")
	p.sees("Anna Reed, steward")
	p.presses("Sign out")
	p.visit("/issues")
	p.presses("Sign in by the survey office")
	p.awaits(`location.pathname === "/issues"`)
	p.sees("Anna Reed, steward")
}
