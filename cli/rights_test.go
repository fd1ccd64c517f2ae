package cli

import (
	"strings"
	"testing"
)

func TestPeopleAreConfinedOnTheCommandLine(t *testing.T) {
	r, as, do := commandLine(t)
	do(0, "rulebook save "+write(t, "s.yaml", samplesBook))
	do(0, "rulebook save "+write(t, "o.yaml", strings.Replace(samplesBook, "dataset: samples", "dataset: others", 1)))
	as(r.Admin)
	do(0, "person rights Ines", "All datasets")
	do(2, "person confine Ines springs read", "springs")
	do(2, "person confine Ines samples fly", "may")
	if said := strings.Join(strings.Fields(do(0, "person confine Ines samples read")), " "); !strings.Contains(said, "samples read masked") {
		t.Errorf("%s", said)
	}
	if said := strings.Join(strings.Fields(do(0, "person confine Ines others read --personal")), " "); !strings.Contains(said, "others read as they are") || !strings.Contains(said, "samples read masked") {
		t.Errorf("%s", said)
	}
	do(0, "person list", "some datasets")
	do(2, "person withdraw Ines springs", "has no right")
	do(0, "person withdraw Ines others")
	as(r.Reader)
	if said := do(0, "dataset list", "samples"); strings.Contains(said, "others") {
		t.Errorf("somebody sees what they may not:\n%s", said)
	}
	do(2, "dataset show others", "nothing at this address that you may see")
	as(r.Admin)
	do(0, "person unconfine Ines", "All datasets")
	as(r.Reader)
	do(0, "dataset list", "others")
}
