package console_test

import (
	"net"
	"net/url"
	"strings"
	"testing"

	"proudsieve/postgres/postgrestest"
	"proudsieve/service/servicetest"
)

// A table in a database is declared, tried, taken and judged without a file.
func TestATableInADatabaseBecomesADelivery(t *testing.T) {
	address := postgrestest.Database(t)
	conn := postgrestest.Connect(t, address)
	for _, s := range []string{"CREATE SCHEMA vale", "CREATE TABLE vale.gauge_readings (station text, level numeric(6,3), read_at timestamptz)",
		"INSERT INTO vale.gauge_readings SELECT 'AV-' || n, n / 8.0, '2026-05-01T06:00:00Z'::timestamptz + n * interval '1 hour' FROM generate_series(1, 40) AS x(n)", "ANALYZE",
		"CREATE VIEW vale.high_water AS SELECT * FROM vale.gauge_readings WHERE level > 4"} {
		if _, err := conn.Exec(t.Context(), s); err != nil {
			t.Fatal(err)
		}
	}
	u, err := url.Parse(address)
	if err != nil {
		t.Fatal(err)
	}
	host, port, _ := net.SplitHostPort(u.Host)
	password, _ := u.User.Password()
	t.Setenv("PROUDSIEVE_SECRET_GAUGES", password)
	r := servicetest.Start(t, nil)
	p := sitDown(t, r.URL)
	p.visit("/people")
	p.signsIn(r.Admin.Token)
	p.presses("Databases from which deliveries are taken")
	p.sees("No database is declared.", "Declare one below.")
	for field, text := range map[string]string{"name": "gauges", "host": host, "port": port, "database": strings.TrimPrefix(u.Path, "/"), "login": u.User.Username(), "secret": "gauges", "rows": "1000"} {
		p.writes("#database-"+field, text)
	}
	p.writes("#database-engine", "postgresql")
	p.presses("Declare it")
	p.sees("Database gauges is declared.", "30 minutes, 1,000 rows", "secret gauges")
	p.presses("Try it")
	p.sees("gauges answers: it is PostgreSQL", "and shows 2 tables.")
	p.clicks(`button[aria-label="Tables of gauges"]`)
	p.sees("vale.gauge_readings", "vale.high_water", "view", "40")
	p.writes(`input[aria-label="Only tables whose names have"]`, "high")
	p.sees("1 of 2 tables")
	if strings.Contains(p.page(), "vale.gauge_readings") {
		t.Error("a table is shown whose name does not have it")
	}

	p.sees("Every host is asked without a credential.")
	p.writes("#credential-host", "lab.alder-vale.example")
	p.writes("#credential-header", "Authorization")
	p.presses("Let it in")
	p.sees("A header and the secret that it says go together.")
	p.writes("#credential-secret", "lab-key")
	p.presses("Let it in")
	p.awaits(`(document.querySelector("[aria-label='Credentials of hosts']")?.innerText ?? "").includes("lab-key")`)
	p.clicks(`button[aria-label="Remove the credential of lab.alder-vale.example"]`)
	p.sees("lab.alder-vale.example is asked without a credential.")

	if _, err := servicetest.Post[map[string]any](t.Context(), r.Steward, "/datasets", map[string]string{"name": "gauge_readings"}); err != nil {
		t.Fatal(err)
	}
	p = sitDown(t, r.URL)
	p.visit("/datasets/gauge_readings")
	p.signsIn(r.Steward.Token)
	p.writes(`select[aria-label="From where"]`, "gauges")
	p.writes(`input[aria-label="Table"]`, "vale.gauge_readings")
	p.presses("Take it now")
	p.sees("gauges: vale.gauge_readings", "Delivery 1 of gauge_readings is kept", "It has 40 rows as of")
	p.writes(`select[aria-label="A table or a query"]`, "query")
	p.writes(`textarea[aria-label="Query"]`, "DELETE FROM vale.gauge_readings RETURNING station")
	p.presses("Take it now")
	p.sees("in a read-only transaction")
	p.visit("/tables/1?view=source")
	p.sees("vale.gauge_readings.csv", "40 rows of PostgreSQL", "snapshot", "level numeric(6,3)", "read_at timestamp with time zone")
	p.visit("/tables/1")
	p.sees("40 rows.", "No verdict: nothing was declared.")

	// The same table is judged where it lies, and none of its rows are taken.
	if _, err := r.Steward.DeclareAfter(t.Context(), "rulebooks", []byte("dataset: gauge_readings\ncolumns:\n  - {name: station}\n  - {name: level, type: decimal, to: 4.5}\nkeys:\n  - {id: one_station, columns: [station]}\n"), 0); err != nil {
		t.Fatal(err)
	}
	p.visit("/datasets/gauge_readings")
	p.writes(`select[aria-label="From where"]`, "gauges")
	p.writes(`select[aria-label="What becomes of it"]`, "there")
	p.writes(`input[aria-label="Table"]`, "vale.gauge_readings")
	p.presses("What would be asked?")
	p.sees("questions would be put to PostgreSQL", "by all 40 rows of the table. Nothing is begun.", "how many rows break which rules, and lack which columns: cost=")
	p.presses("Judge it now")
	p.sees("vale.gauge_readings is delivery 2 of gauge_readings, and is judged where it lies; it has 40 rows.")
	p.visit("/tables/2")
	p.sees("in the database gauges", "Judged where it lies, vale.gauge_readings of the database gauges", "None of its rows were taken.", "questions were put to the server", "90.00, pass mark 100")
	p.visit("/tables/2?view=findings")
	p.sees("4 of 40 rows have a value out of range in level.")
	p.visit("/tables/2?view=rows&rule=level.range")
	p.sees("AV-37", "4.625", "Rows 1 to 4 of 4 rows")
	p.visit("/tables/2?view=rows")
	p.sees("those that break a rule can be opened from its findings")
	p.visit("/tables/2?view=source")
	p.sees("the database gauges at "+host, "Digest of its rows", "level numeric(6,3)")
	// Nothing of it is put right from here, so that a certificate asks for no fix plan.
	p.visit("/tables/2?view=certificate")
	p.sees("The score of the table is 90.00, below its pass mark of 100.", "Where it lies", "It is vale.gauge_readings at "+host+":", "None of its rows were taken")
	if strings.Contains(p.page(), "only a cleaned or merged table is certified") {
		t.Error("it asks for a fix plan of a table in a database")
	}
}
