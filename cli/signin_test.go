package cli

import (
	"bytes"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"proudsieve/client"
	"proudsieve/service/servicetest"
)

// printed is what a command printed so far.
type printed struct {
	mutex sync.Mutex
	text  bytes.Buffer
}

func (p *printed) Write(b []byte) (int, error) {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	return p.text.Write(b)
}

func (p *printed) String() string {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	return p.text.String()
}

func TestComingInByACode(t *testing.T) {
	r := servicetest.Start(t, nil)
	home := t.TempDir()
	t.Setenv("XDG_CONFIG_HOME", home)
	t.Setenv("PROUDSIEVE_SERVER", r.URL)
	t.Setenv("PROUDSIEVE_TOKEN", "")
	if code, _, stderr := run("sign-out"); code != 2 || !strings.Contains(stderr, "you are not signed in at "+r.URL) {
		t.Errorf("%d, %s", code, stderr)
	}
	signIn := func(letIn bool) (code int, said string) {
		t.Helper()
		var out, stderr printed
		done := make(chan int)
		go func() { done <- Run([]string{"proudsieve", "sign-in"}, &out, &stderr) }()
		shown := regexp.MustCompile(`(?m)^ {4}([A-Z]{4}-[A-Z]{4})$`)
		for end := time.Now().Add(20 * time.Second); shown.FindString(out.String()) == ""; time.Sleep(20 * time.Millisecond) {
			if time.Now().After(end) {
				t.Fatalf("no code is shown: %s%s", out.String(), stderr.String())
			}
		}
		if _, err := r.Steward.AnswerSignInRequest(t.Context(), shown.FindStringSubmatch(out.String())[1], client.AnswerSignInRequestJSONRequestBody{LetIn: letIn}); err != nil {
			t.Fatal(err)
		}
		return <-done, out.String() + stderr.String()
	}
	if code, said := signIn(false); code != 2 || !strings.Contains(said, "it was refused in the console") {
		t.Errorf("%d, %s", code, said)
	}
	code, said := signIn(true)
	if code != 0 || !strings.Contains(said, "You are signed in at "+r.URL+" as Mara until") || strings.Contains(said, "ps_") {
		t.Errorf("%d, %s", code, said)
	}
	kept, err := filepath.Glob(filepath.Join(home, "proudsieve", "signed-in", "*.json"))
	if err != nil || len(kept) != 1 {
		t.Fatal(kept, err)
	}
	if info, err := os.Stat(kept[0]); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v, %v", info.Mode(), err)
	}
	if code, out, stderr := run("token", "list"); code != 0 || !strings.Contains(out, "the command line on ") {
		t.Errorf("%d, %s%s", code, out, stderr)
	}
	raw, err := os.ReadFile(kept[0])
	if err != nil {
		t.Fatal(err)
	}
	over := regexp.MustCompile(`"expires": "[^"]*"`).ReplaceAll(raw, []byte(`"expires": "2026-01-01T00:00:00Z"`))
	if err := os.WriteFile(kept[0], over, 0o600); err != nil {
		t.Fatal(err)
	}
	if code, _, stderr := run("dataset", "list"); code != 2 || !strings.Contains(stderr, "come in again with: proudsieve sign-in") {
		t.Errorf("%d, %s", code, stderr)
	}
	if err := os.WriteFile(kept[0], raw, 0o600); err != nil {
		t.Fatal(err)
	}
	if code, out, stderr := run("sign-out"); code != 0 || !strings.Contains(out, "You are signed out") {
		t.Errorf("%d, %s%s", code, out, stderr)
	}
	if left, _ := filepath.Glob(filepath.Join(home, "proudsieve", "signed-in", "*")); len(left) > 0 {
		t.Errorf("%v", left)
	}
}

func TestGroupsAndTheirRoles(t *testing.T) {
	for role, says := range map[string]string{
		"office": "GROUP=ROLE or GROUP=ROLE:DATASET,DATASET", "office=king": `no role that there is: "king"`, "office=administrator:samples": "are for all datasets",
	} {
		code, _, stderr := run("serve", "--database-url", "postgres://127.0.0.1:1/none", "--data", t.TempDir(), "--provider", "https://id.example", "--provider-client", "sieve", "--provider-role", role)
		if code != 2 || !strings.Contains(stderr, says) {
			t.Errorf("%s: %d, %s", role, code, stderr)
		}
	}
}

func TestWhatABucketNeedsIsSaidAtTheStart(t *testing.T) {
	key := filepath.Join(t.TempDir(), "key")
	if err := os.WriteFile(key, []byte("id\nsecret\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	for says, options := range map[string][]string{
		"go with --bucket":                 {"--bucket-server", "https://store.example"},
		"write it as https://":             {"--bucket", "survey/files", "--bucket-key", key},
		"over https":                       {"--bucket", "survey", "--bucket-key", key, "--bucket-server", "http://10.1.2.3:9000"},
		"needs a key":                      {"--bucket", "survey", "--bucket-server", "https://store.example"},
		"no such file":                     {"--bucket", "survey", "--bucket-server", "https://store.example", "--bucket-key", key + "s"},
		"at least 67108864 bytes":          {"--bucket", "survey", "--bucket-server", "https://store.example", "--bucket-key", key, "--bucket-cache", "5"},
		"opening the file store: the file": {"--bucket", "survey", "--bucket-server", "http://127.0.0.1:1", "--bucket-key", key},
	} {
		code, _, stderr := run(append([]string{"serve", "--database-url", "postgres://127.0.0.1:1/none", "--data", t.TempDir()}, options...)...)
		if code != 2 || !strings.Contains(stderr, says) {
			t.Errorf("%v: %d, %s", options, code, stderr)
		}
	}
}
