package console_test

import (
	"context"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"proudsieve/client"
	"proudsieve/service"
	"proudsieve/service/records"
	"proudsieve/service/servicetest"
)

// The list of issues is chosen and ordered, and its address says how.
func TestIssuesAreKeptAsAnAddress(t *testing.T) {
	t.Parallel()
	r, p, _ := seated(t, "meters", metersBook, metersFile)
	ctx := context.Background()
	all, err := servicetest.All[records.Issue](ctx, r.Steward, "/issues")
	if err != nil || len(all) != 2 {
		t.Fatalf("%+v, %v", all, err)
	}
	jonas := "Jonas"
	if _, err := r.Steward.EditIssue(ctx, all[0].ID, client.IssueChanged{Assignee: &jonas}); err != nil {
		t.Fatal(err)
	}
	listed := `[...document.querySelectorAll('[aria-label="Issues"] tbody tr')].map((r) => r.cells[1].innerText).join(" ")`
	p.visit("/issues")
	p.awaits(fmt.Sprintf(`%s === "%d %d"`, listed, all[0].ID, all[1].ID))
	p.writes(`select[aria-label="Assigned to"]`, "Jonas")
	p.awaits(fmt.Sprintf(`%s === "%d"`, listed, all[0].ID))
	p.writes(`select[aria-label="Assigned to"]`, "-")
	p.awaits(fmt.Sprintf(`%s === "%d"`, listed, all[1].ID))
	p.writes(`select[aria-label="What comes first"]`, "gravest")
	p.awaits(`location.search.includes("order=gravest") && location.search.includes("assignee=-")`)
	address := p.address()
	p.visit("/")
	p.visit(address)
	p.awaits(fmt.Sprintf(`%s === "%d"`, listed, all[1].ID))
	p.presses("All that are open or asked")
	p.awaits(listed + `.split(" ").length === 2`)
	p.visit("/issues?severity=nonsense&order=up&text=" + all[1].Rule)
	p.awaits(fmt.Sprintf(`%s === "%d"`, listed, all[1].ID))
}

// The desk is that of who sits at it: what is theirs stands first, and only who can sign is told of a signature.
func TestTheDeskIsThatOfWhoSitsAtIt(t *testing.T) {
	t.Parallel()
	r, p, _ := seated(t, "meters", metersBook, metersFile)
	ctx := context.Background()
	all, err := servicetest.All[records.Issue](ctx, r.Steward, "/issues")
	if err != nil {
		t.Fatal(err)
	}
	mara := "Mara"
	if _, err := r.Steward.EditIssue(ctx, all[0].ID, client.IssueChanged{Assignee: &mara}); err != nil {
		t.Fatal(err)
	}
	for _, declared := range []struct{ kind, text string }{
		{"fix-plans", "fix_plan: as_it_is\ndataset: meters\nsteps: []\n"},
		{"rulebooks", "dataset: all_meters\ncolumns: [{name: meter}]\npass_mark: 10\n"},
		{"merges", "merge: all_meters\nstack: [meters]\n"}} {
		if _, err := r.Steward.Declare(ctx, declared.kind, []byte(declared.text)); err != nil {
			t.Fatal(err)
		}
	}
	for _, job := range []string{"/tables/1/fixes", "/merges/all_meters/runs"} {
		started, err := servicetest.Post[records.Job](ctx, r.Steward, job, map[string]string{"fix_plan": "as_it_is"})
		if strings.HasPrefix(job, "/merges") {
			started, err = servicetest.Post[records.Job](ctx, r.Steward, job, map[string]any{})
		}
		if err != nil {
			t.Fatal(err)
		}
		done, err := r.Steward.Follow(ctx, started.ID, nil)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := r.Steward.AuditOf(ctx, *done.ResultTable, nil); err != nil {
			t.Fatal(err)
		}
	}
	p.visit("/")
	p.sees("1 issue is assigned to you", "Yours, the gravest first", "Waiting for a certificate", "What fell short")
	if strings.Contains(p.page(), "signature") {
		t.Errorf("a steward is told of a signature:\n%s", p.page())
	}
	p.presses("Sign out")
	p.signsIn(r.Certifier.Token)
	p.sees("1 table is ready for your signature", "Ready for your signature", "nothing stands in the way of its certificate")
	if strings.Contains(p.page(), "assigned to you") {
		t.Error("Jonas has issues of Mara's")
	}
	p.presses("passes and nothing stands in the way")
	p.sees("Nothing stands in the way of a certificate.")
}

// What is written and not sent is asked about before a page is left.
func TestLeavingAsksWhereSomethingIsNotSent(t *testing.T) {
	t.Parallel()
	_, p, _ := seated(t, "meters", metersBook, metersFile)
	p.visit("/issues/1")
	p.writes(`textarea[aria-label="Comment"]`, "Is the clock right?")
	p.presses("Datasets")
	p.sees("What you wrote is not sent")
	p.presses("Stay here")
	p.awaits(`location.pathname === "/issues/1" && document.querySelector('textarea[aria-label="Comment"]').value === "Is the clock right?"`)
	p.presses("Add to the record")
	p.awaits(`document.querySelector('textarea[aria-label="Comment"]').value === ""`)
	p.presses("Datasets")
	p.awaits(`location.pathname === "/datasets"`)
	p.visit("/issues/1")
	p.writes(`textarea[aria-label="Reason"]`, "It is meant so.")
	p.presses("Datasets")
	p.presses("Leave, and lose it")
	p.awaits(`location.pathname === "/datasets"`)
}

// door lets connections through to a service, and can be shut.
type door struct {
	t       *testing.T
	address string
	to      string
	mu      sync.Mutex
	at      net.Listener
	through []net.Conn
}

func (d *door) open() {
	d.t.Helper()
	l, err := net.Listen("tcp", d.address)
	if err != nil {
		d.t.Fatal(err)
	}
	d.mu.Lock()
	d.at, d.address = l, l.Addr().String()
	d.mu.Unlock()
	go func() {
		for {
			in, err := l.Accept()
			if err != nil {
				return
			}
			out, err := net.Dial("tcp", d.to)
			if err != nil {
				_ = in.Close()
				continue
			}
			d.mu.Lock()
			d.through = append(d.through, in, out)
			d.mu.Unlock()
			go func() { _, _ = io.Copy(out, in) }()
			go func() { _, _ = io.Copy(in, out) }()
		}
	}()
}

func (d *door) shut() {
	d.mu.Lock()
	defer d.mu.Unlock()
	_ = d.at.Close()
	for _, c := range d.through {
		_ = c.Close()
	}
	d.through = nil
}

// A service that goes away and comes back is told of, and the page goes on by itself.
func TestThePageComesBackWithTheService(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	d := &door{t: t, address: "127.0.0.1:0", to: strings.TrimPrefix(r.URL, "http://")}
	d.open()
	t.Cleanup(d.shut)
	p := sitDown(t, "http://"+d.address)
	p.visit("/")
	p.signsIn(r.Steward.Token)
	p.sees("Begin here")
	d.shut()
	p.sees("The service does not answer. What is on the page stays")
	if _, err := servicetest.Post[map[string]any](context.Background(), r.Steward, "/datasets", map[string]string{"name": "weirs"}); err != nil {
		t.Fatal(err)
	}
	d.open()
	p.awaits(`!document.body.innerText.includes("The service does not answer")`)
	p.sees("weirs")
}

// On paper there is nothing to press and nothing cut off by a frame.
func TestPagesArePrinted(t *testing.T) {
	t.Parallel()
	_, p, table := seated(t, "meters", metersBook, metersFile)
	p.visit(fmt.Sprintf("/tables/%d?view=findings", table))
	p.sees("of 5 rows")
	p.do("looking at it as it is printed", chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := cdp.Call(ctx, t, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{Media: "print"})
		return err
	}))
	seen := evaluate[[]string](p, `[...document.querySelectorAll("header, nav, button, form, select")].filter((e) => e.getClientRects().length > 0).map((e) => e.outerHTML.slice(0, 80))`)
	if len(seen) > 0 {
		t.Errorf("on paper stand %v", seen)
	}
	if cut := evaluate[int](p, `[...document.querySelectorAll("main *")].filter((e) => getComputedStyle(e).overflowY === "auto" || getComputedStyle(e).overflowY === "scroll").length`); cut > 0 {
		t.Errorf("%d frames scroll on paper", cut)
	}
}

// Words of the trade are explained where they stand, with an example out of the table itself.
func TestTermsAreExplainedByOnesOwnData(t *testing.T) {
	t.Parallel()
	_, p, table := seated(t, "meters", metersBook, metersFile)
	ask := func(of, says, example string) {
		t.Helper()
		p.do("asking what "+of+" means", chromedp.Click(chromedp.CSS(fmt.Sprintf(`button[aria-label="What is meant by %s"]`, of))))
		p.sees(says, example)
		p.awaits(`document.activeElement.closest('[role="dialog"]') !== null`)
		p.do("closing it by keyboard", chromedp.KeyEvent(kb.Escape))
		p.awaits(`document.querySelector('[role="dialog"]') === null`)
	}
	p.visit(fmt.Sprintf("/tables/%d", table))
	p.sees("of 5 rows")
	ask("missing", "How many cells have nothing in them", "Here: meter lacks 1 of 5.")
	ask("score", "a cell with three faults counts once", "Here: of 100 cells of meter, 80.00 have nothing wrong with them.")
	p.visit(fmt.Sprintf("/tables/%d?view=column&column=flow", table))
	p.sees("median")
	ask("median", "Half of the values lie below it", "Here: 50 of 100 values of flow lie below 7.625.")
	p.visit(fmt.Sprintf("/tables/%d?view=findings", table))
	p.sees("wins back")
	ask("severity", "major stops it", "Here: ")
}

// An empty service offers something to look around in, which is taken in as anything else is.
func TestAnEmptyServiceOffersTheDemo(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, func(o *service.Options) {
		o.Samples = []records.Sample{
			{Dataset: "crews", FileName: "crews.csv", Rulebook: crewsBook, Content: []byte("crew,river\nred,Alder\n")},
			{Dataset: "meters", FileName: "meters.csv", Rulebook: metersBook, Content: []byte(metersFile)}}
	})
	p := sitDown(t, r.URL)
	p.visit("/")
	p.signsIn(r.Reader.Token)
	p.sees("Begin here", "bring the survey of a made-up river: 2 datasets")
	if evaluate[bool](p, `document.querySelector('button[disabled][title^="You are a reader"]') === null`) {
		t.Error("a reader may bring the demo")
	}
	p.presses("Sign out")
	p.signsIn(r.Steward.Token)
	p.presses("Bring the made-up survey")
	p.sees("What needs you", "crews", "meters")
	deadline := time.Now().Add(patience)
	for {
		tables, err := servicetest.All[records.Table](context.Background(), r.Reader, "/datasets/meters/tables")
		if err == nil && len(tables) == 1 && tables[0].Rows != nil {
			if *tables[0].Rows != 5 {
				t.Errorf("%+v", tables[0])
			}
			break
		}
		if time.Now().After(deadline) {
			t.Fatalf("the demo is not there: %+v, %v", tables, err)
		}
		time.Sleep(100 * time.Millisecond)
	}
}
