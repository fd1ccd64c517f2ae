package work

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"proudsieve/core/document"
	"proudsieve/core/guard"
	"proudsieve/durable"
	"proudsieve/engine"
	"proudsieve/service/files"
	"proudsieve/service/records"
	"proudsieve/service/store"
)

// SecretName is what the name of a secret of the nodes is like.
var SecretName = regexp.MustCompile(`^[a-z0-9][a-z0-9_-]{0,59}$`)

// secretVariable is the variable of the environment that a secret may be in.
func secretVariable(name string) string {
	return "PROUDSIEVE_SECRET_" + strings.ToUpper(strings.ReplaceAll(name, "-", "_"))
}

// NodeSecret returns a secret by its name: from the environment, or from a file of mode 0600 that has that name. It is told to nobody.
func (p *Pool) NodeSecret(name string) (string, error) {
	if !SecretName.MatchString(name) {
		return "", fmt.Errorf("%q is no name of a secret: it is of small letters, digits, - and _", name)
	}
	if secret := os.Getenv(secretVariable(name)); secret != "" {
		return secret, nil
	}
	raw, err := durable.ReadSecret(filepath.Join(p.Secrets, name))
	if errors.Is(err, os.ErrNotExist) {
		return "", fmt.Errorf("this node has no secret %q: put it into %s with mode 0600, or into the environment as %s", name, filepath.Join(p.Secrets, name), secretVariable(name))
	}
	return string(bytes.TrimRight(raw, "\r\n")), err
}

// OpenDatabase begins a session with a database.
func (p *Pool) OpenDatabase(ctx context.Context, d *records.Database) (engine.Session, error) {
	password := ""
	if d.Secret != "" {
		var err error
		if password, err = p.NodeSecret(d.Secret); err != nil {
			return nil, err
		}
	}
	s, err := engine.Open(ctx, engine.Database{Engine: d.Engine, Host: d.Host, Port: d.Port, Name: d.Database, User: d.Login, Password: password, TLS: d.TLS,
		Timeout: time.Duration(d.TimeoutMinutes) * time.Minute})
	if err != nil {
		return nil, fmt.Errorf("%s: %w", d.Name, err)
	}
	return s, nil
}

// databaseSays is how often a database that is at work on a statement counts as progress; the statement's own limit ends it.
const databaseSays = time.Minute

// takeFrom takes a table, or what a query gives, from a database as a delivery.
func (a *attempt) takeFrom(ctx context.Context, f *records.Fetch) (*store.Fetched, error) {
	d, err := store.FindDatabase(ctx, a.store.DB, f.Database)
	if err != nil {
		return nil, err
	}
	s, err := a.OpenDatabase(ctx, d)
	if err != nil {
		return nil, fmt.Errorf("%w; nothing was kept", err)
	}
	defer s.Close()
	limits := engine.Limits{Rows: d.RowLimit, Bytes: a.UploadLimit}
	if d.ByteLimit > 0 {
		limits.Bytes = min(limits.Bytes, d.ByteLimit)
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	in, out := io.Pipe()
	var taking guard.Group
	var taken *engine.Taken
	taking.Go(func() (err error) {
		defer func() { _ = out.CloseWithError(err) }()
		taken, err = engine.Take(ctx, s, engine.Relation{Schema: f.Schema, Table: f.Table, Query: f.Query}, limits, out)
		return err
	})
	defer a.ticking(ctx)()
	kept, err := a.Receive(ctx, &counted{in: in, tell: func(n int64) { a.progress(n, 0) }})
	_ = in.CloseWithError(errors.Join(err, io.ErrClosedPipe))
	if ended := taking.Wait(); ended != nil {
		err = ended
	}
	if err != nil {
		if kept != nil {
			kept.Close()
		}
		if files.Full(err) || ctx.Err() != nil {
			return nil, err
		}
		return nil, fmt.Errorf("%s of %s: %w; nothing was kept", engine.Relation{Schema: f.Schema, Table: f.Table, Query: f.Query}, d.Name, err)
	}
	defer kept.Close()
	name := "query.csv"
	if f.Query == "" {
		name = f.Schema + "." + f.Table + ".csv"
	}
	done, err := a.deliver(ctx, f, kept, strings.NewReplacer("/", "_", "\\", "_").Replace(name), map[string]any{"database": d.Name, "taken": taken})
	if err == nil && done.Outcome == "delivered" {
		done.Message = fmt.Sprintf("%s %s", done.Message, rowsTaken(taken))
	}
	return done, err
}

func rowsTaken(t *engine.Taken) string {
	says := fmt.Sprintf("It has %s as of %s.", document.Counted(t.Rows, "row", "rows"), t.At.Format("2006-01-02 15:04:05 UTC"))
	if names := slices.Sorted(maps.Keys(t.EmptyTexts)); len(names) > 0 {
		more := ""
		if len(names) > 3 {
			more = fmt.Sprintf(" and %d columns more", len(names)-3)
		}
		says += fmt.Sprintf(" Empty texts, which are not null there, stand in %s%s; a delivery has both as missing.", strings.Join(names[:min(len(names), 3)], ", "), more)
	}
	return says
}

// ticking counts it as progress that a database is at work, until it is told to end.
func (a *attempt) ticking(ctx context.Context) (end func()) {
	ctx, cancel := context.WithCancel(ctx)
	var group guard.Group
	group.Go(func() error {
		ticker := time.NewTicker(databaseSays)
		defer ticker.Stop()
		for {
			select {
			case <-ctx.Done():
				return nil
			case <-ticker.C:
				a.ticks.Add(1)
			}
		}
	})
	return func() { cancel(); _ = group.Wait() }
}
