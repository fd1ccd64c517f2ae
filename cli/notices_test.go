package cli

import (
	"os"
	"strings"
	"testing"

	"proudsieve/service"
	"proudsieve/service/telling/standin"
)

func TestNoticesOnTheCommandLine(t *testing.T) {
	r, as, do := commandLine(t)
	do(0, "notice list", "Nothing happened yet")
	do(0, "rulebook save "+write(t, "s.yaml", samplesBook))
	do(0, "delivery add samples "+write(t, "samples.csv", samplesFile))
	do(0, "notice list", "Delivery 1 of samples arrived: samples.csv.")
	do(0, "notice list --kind job_failed", "Nothing happened yet")
	do(0, "notice choices", "delivery_arrived", "No mail server is set up")
	do(2, "notice choose rain", `"rain" is no kind of notice`)
	do(2, "notice choose all loud", `"loud" is no way of being told`)
	do(2, "notice choose all mail", "Letters need an address")
	do(2, "notice choose all --dataset springs", "springs")
	choices := do(0, "notice choose delivery_arrived neither --dataset samples", "You are told of samples.")
	if !strings.Contains(strings.Join(strings.Fields(choices), " "), "delivery_arrived no no delivery_late yes no") {
		t.Errorf("%s", choices)
	}
	do(0, "notice list", "Nothing happened yet")
	do(0, "notice choose delivery_arrived list --all-datasets")
	do(0, "notice list", "Delivery 1 of samples arrived")
	as(r.Reader)
	do(2, "receiver list", "the right to administer")
}

func TestReceiversOnTheCommandLine(t *testing.T) {
	r, as, do := commandLineWith(t, func(o *service.Options) { o.TellPrivate = true })
	to, err := standin.StartReceiver(freePort, "")
	if err != nil {
		t.Fatal(err)
	}
	defer to.Stop()
	as(r.Admin)
	do(0, "receiver list", "No program is told.")
	do(2, "receiver add archive "+to.Address+" --kind rain", "delivery_arrived")
	secret := t.TempDir() + "/secret"
	do(0, "receiver add archive "+to.Address+" --kind delivery_arrived --to "+secret, "Receiver 1, archive")
	do(2, "receiver try 1", "401")
	raw, err := os.ReadFile(secret)
	if err != nil {
		t.Fatal(err)
	}
	to.SetSecret(strings.TrimSpace(string(raw)))
	do(0, "receiver try 1", "archive took the event.")
	do(0, "rulebook save "+write(t, "s.yaml", samplesBook))
	do(0, "delivery add samples "+write(t, "samples.csv", samplesFile))
	do(0, "receiver sent --receiver 1", "Delivery 1 of samples arrived")
	do(2, "receiver again 1", "was not given up")
	do(0, "receiver renew 1", "whsec_")
	do(0, "receiver remove 1", "told no more")
	do(2, "receiver try 1", "no receiver 1")
}
