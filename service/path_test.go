package service_test

import (
	"fmt"
	"strings"
	"testing"

	"proudsieve/service/records"
	"proudsieve/service/servicetest"
)

// The path says what holds a delivery up, by its score or by the rule, and no more than one station is where it is.
func TestThePathSaysWhatHoldsADeliveryUp(t *testing.T) {
	t.Parallel()
	r := servicetest.Start(t, nil)
	declare(t, r.Steward, "rulebooks", "dataset: samples\ncolumns: [{name: sample}, {name: value, type: decimal}]\npass_mark: 80\nrules:\n  - {id: small, condition: value < 5, severity: minor}\n  - {id: whole, condition: value <> 3, severity: major}\n")
	path := func(content string) map[string]records.Stage {
		t.Helper()
		d := deliver(t, r.Steward, "samples", content)
		audited(t, r.Steward, d.Table.ID)
		p, err := servicetest.Get[records.Path](ctx, r.Reader, fmt.Sprintf("/tables/%d/path", d.Table.ID))
		if err != nil {
			t.Fatal(err)
		}
		out, here := map[string]records.Stage{}, 0
		for _, s := range p.Stages {
			out[s.Name] = s
			if s.State == "here" {
				here++
			}
		}
		if here > 1 {
			t.Errorf("%d stations are where it is: %+v", here, p.Stages)
		}
		return out
	}
	if s := path("sample,value\nS1,9\nS2,8\nS3,1\n")["judged"]; !strings.Contains(s.Says, "its score is 33.33, below the pass mark of 80") ||
		strings.Contains(s.Says, "whole") {
		t.Errorf("a low score: %+v", s)
	}
	if s := path("sample,value\nS1,3\n" + strings.Repeat("S2,1\n", 19))["judged"]; !strings.Contains(s.Says, "whole") ||
		strings.Contains(s.Says, "below the pass mark") {
		t.Errorf("a broken rule: %+v", s)
	}
}
