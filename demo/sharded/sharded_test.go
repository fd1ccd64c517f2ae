package sharded_test

import (
	"testing"

	"proudsieve/core/testkit"
	"proudsieve/demo/sharded"
	"proudsieve/engine"
	"proudsieve/engine/enginetest"
	"proudsieve/inplace"
)

func TestWhatIsPlantedAmongTheServersIsFound(t *testing.T) {
	servers := enginetest.StartClickHouse(t, sharded.Servers)
	for i := range sharded.Servers {
		servers.Do(t, i, sharded.Statements(i)...)
	}
	s, err := engine.Open(t.Context(), servers.Nodes[0])
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	result, err := inplace.Judge(t.Context(), s, "clickhouse", engine.Relation{Schema: "vale", Table: "readings"}, testkit.Book(t, sharded.Rulebook()), inplace.Options{})
	if err != nil {
		t.Fatal(err)
	}
	if want := int64(sharded.Servers*sharded.Rows + 2 + 5 + 7 + 11); result.Rows != want {
		t.Errorf("%d rows, want %d", result.Rows, want)
	}
	planted := map[string]int64{}
	for _, one := range sharded.All {
		planted[one.Rule] = one.Rows
	}
	for _, f := range result.Findings {
		if f.Rows != planted[f.Rule] {
			t.Errorf("%s: %d rows, and %d were planted", f.Rule, f.Rows, planted[f.Rule])
		}
		delete(planted, f.Rule)
	}
	if len(planted) > 0 {
		t.Errorf("not found: %v", planted)
	}
	for _, rule := range result.Rules {
		if rule.Unjudged != "" {
			t.Errorf("%s: %s", rule.Rule, rule.Unjudged)
		}
	}
}
