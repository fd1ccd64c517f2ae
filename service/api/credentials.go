package api

import (
	"context"
	"net/http"

	"github.com/jmoiron/sqlx"

	"proudsieve/service/access"
	"proudsieve/service/records"
	"proudsieve/service/store"
	"proudsieve/service/work"
)

// credentials adds the operations on what the service is let in by where deliveries are fetched from.
func (s *Server) credentials() {
	register(s, operation{
		Right: access.Administer, ID: "list-credentials", Method: http.MethodGet, Path: "/credentials",
		Summary: "By what the service is let in at hosts from which deliveries are fetched; what the secrets say is shown nowhere",
	}, func(ctx context.Context, _ *nothing) (*body[[]records.Credential], error) {
		all, err := store.Credentials(ctx, s.Store.DB)
		return answer(&all, err)
	})
	type adding struct{ Body records.NewCredential }
	register(s, operation{
		Right: access.Administer, ID: "add-credential", Method: http.MethodPost, Path: "/credentials",
		Summary: "Declare by what the service is let in at a host: a header, a certificate, or both. Each is a secret of the nodes, which is named",
	}, func(ctx context.Context, in *adding) (*body[records.Credential], error) {
		n := &in.Body
		n.Host = work.HostOf(n.Host)
		switch {
		case (n.Header == "") != (n.Secret == ""):
			return nil, invalid("A header and the secret that it says go together.")
		case n.Header == "" && n.Certificate == "" && n.Authority == "":
			return nil, invalid("Say a header with its secret, a certificate, or whose certificate the host has.")
		}
		for _, name := range []string{n.Secret, n.Certificate, n.Authority} {
			if name != "" && !work.SecretName.MatchString(name) {
				return nil, invalid("%q is no name of a secret: it is of small letters, digits, - and _.", name)
			}
		}
		var made *records.Credential
		err := s.Store.Do(ctx, func(tx *sqlx.Tx) (err error) {
			if made, err = store.AddCredential(ctx, tx, n, caller(ctx).ID); err != nil {
				return err
			}
			return store.Record(ctx, tx, caller(ctx).ID, "declared a credential", made.Host, map[string]any{"header": made.Header, "secret": made.Secret, "certificate": made.Certificate})
		})
		return answer(made, err)
	})
	type named struct {
		Host string `path:"host" maxLength:"260"`
	}
	register(s, operation{
		Right: access.Administer, ID: "remove-credential", Method: http.MethodDelete, Path: "/credentials/{host}",
		Summary: "Come to a host without a credential",
	}, func(ctx context.Context, in *named) (*struct{}, error) {
		return nil, s.Store.Do(ctx, func(tx *sqlx.Tx) error {
			c, err := store.FindCredential(ctx, tx, work.HostOf(in.Host))
			if err == nil {
				err = store.RemoveCredential(ctx, tx, c.ID)
			}
			if err != nil {
				return err
			}
			return store.Record(ctx, tx, caller(ctx).ID, "removed a credential", c.Host, nil)
		})
	})
}
