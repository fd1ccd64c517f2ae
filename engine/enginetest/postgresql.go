package enginetest

import (
	"net"
	"net/url"
	"strconv"
	"strings"
	"testing"

	"proudsieve/engine"
)

// PostgreSQL is a database by the address that tests have of it.
func PostgreSQL(t testing.TB, address string) engine.Database {
	t.Helper()
	u, err := url.Parse(address)
	if err != nil {
		t.Fatal(err)
	}
	host, port, _ := net.SplitHostPort(u.Host)
	n, _ := strconv.Atoi(port)
	password, _ := u.User.Password()
	return engine.Database{Engine: "postgresql", Host: host, Port: n, Name: strings.TrimPrefix(u.Path, "/"), User: u.User.Username(), Password: password}
}
