package keeping

import (
	"context"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5"

	"proudsieve/postgres"
)

// program runs a program of PostgreSQL's, with the database's address in its environment,
// where other users do not see it.
func program(ctx context.Context, databaseURL, name string, args ...string) (*exec.Cmd, error) {
	path := name
	if programs, err := postgres.Programs(); err == nil {
		path = filepath.Join(programs, name)
	}
	c := exec.CommandContext(ctx, path, args...)
	where, err := environment(databaseURL)
	c.Env = append(os.Environ(), where...)
	return c, err
}

// environment is the address of a database as PostgreSQL's programs take it. It may have several hosts, of which one is written to.
func environment(databaseURL string) ([]string, error) {
	c, err := pgx.ParseConfig(databaseURL)
	if err != nil {
		return nil, err
	}
	var hosts, ports []string
	add := func(host string, port uint16) {
		n := len(hosts) - 1
		if n < 0 || hosts[n] != host || ports[n] != strconv.Itoa(int(port)) { // one host is tried with and without TLS
			hosts, ports = append(hosts, host), append(ports, strconv.Itoa(int(port)))
		}
	}
	add(c.Host, c.Port)
	for _, f := range c.Fallbacks {
		add(f.Host, f.Port)
	}
	out := []string{"PGHOST=" + strings.Join(hosts, ","), "PGPORT=" + strings.Join(ports, ","), "PGUSER=" + c.User, "PGPASSWORD=" + c.Password,
		"PGDATABASE=" + c.Database}
	u, err := url.Parse(databaseURL)
	if err != nil { // it is written as key=value
		return out, nil
	}
	for option, variable := range map[string]string{"sslmode": "PGSSLMODE", "target_session_attrs": "PGTARGETSESSIONATTRS", "sslrootcert": "PGSSLROOTCERT"} {
		if value := u.Query().Get(option); value != "" {
			out = append(out, variable+"="+value)
		}
	}
	return out, nil
}

func databaseName(databaseURL string) string {
	c, err := pgx.ParseConfig(databaseURL)
	if err != nil {
		return ""
	}
	return c.Database
}
