// Package lineage tells what a table was made of and what was made of it, as records, and as provenance in the words of W3C PROV-O
// (https://www.w3.org/TR/prov-o/), written as JSON-LD 1.1.
package lineage

import (
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"time"

	"proudsieve/service/records"
)

// Lineage is a table with all that it rests on and all that rests on it.
type Lineage struct {
	Table        int64                 `json:"table"`
	Tables       []records.Table       `json:"tables" doc:"The table, what it was made of and what was made of it, in the order in which they came"`
	Links        []Link                `json:"links"`
	Certificates []records.Certificate `json:"certificates" doc:"Those of these tables"`
}

// Link says that a table was made of another.
type Link struct {
	Of   int64 `db:"of" json:"of"`
	Made int64 `db:"made" json:"made"`
}

// names in the words of PROV-O, and of ours where it has none.
var vocabulary = map[string]any{
	"prov":                 "http://www.w3.org/ns/prov#",
	"rdfs":                 "http://www.w3.org/2000/01/rdf-schema#",
	"xsd":                  "http://www.w3.org/2001/XMLSchema#",
	"sieve":                "urn:proudsieve:terms:",
	"label":                "rdfs:label",
	"generatedAtTime":      map[string]string{"@id": "prov:generatedAtTime", "@type": "xsd:dateTime"},
	"invalidatedAtTime":    map[string]string{"@id": "prov:invalidatedAtTime", "@type": "xsd:dateTime"},
	"endedAtTime":          map[string]string{"@id": "prov:endedAtTime", "@type": "xsd:dateTime"},
	"wasDerivedFrom":       map[string]string{"@id": "prov:wasDerivedFrom", "@type": "@id"},
	"wasGeneratedBy":       map[string]string{"@id": "prov:wasGeneratedBy", "@type": "@id"},
	"wasAttributedTo":      map[string]string{"@id": "prov:wasAttributedTo", "@type": "@id"},
	"wasAssociatedWith":    map[string]string{"@id": "prov:wasAssociatedWith", "@type": "@id"},
	"used":                 map[string]string{"@id": "prov:used", "@type": "@id"},
	"qualifiedAssociation": "prov:qualifiedAssociation",
	"agent":                map[string]string{"@id": "prov:agent", "@type": "@id"},
	"hadPlan":              map[string]string{"@id": "prov:hadPlan", "@type": "@id"},
	"sha256":               "sieve:sha256",
	"bytes":                "sieve:bytes",
	"rows":                 "sieve:rows",
	"dataset":              "sieve:dataset",
	"origin":               "sieve:origin",
	"file":                 "sieve:file",
	"changeLog":            "sieve:changeLogSHA256",
	"signature":            "sieve:signature",
	"reason":               "sieve:reason",
}

type node map[string]any

func tableName(id int64) string       { return fmt.Sprintf("urn:proudsieve:table:%d", id) }
func runName(id int64) string         { return fmt.Sprintf("urn:proudsieve:run-that-made-table:%d", id) }
func planName(id int64) string        { return fmt.Sprintf("urn:proudsieve:declaration:%d", id) }
func certificateName(id int64) string { return fmt.Sprintf("urn:proudsieve:certificate:%d", id) }

// person names an agent; what a name has that a URN may not is written as percent and two digits.
func person(name string) string {
	var b strings.Builder
	b.WriteString("urn:proudsieve:person:")
	for _, c := range []byte(name) {
		if c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '-' || c == '_' {
			b.WriteByte(c)
		} else {
			fmt.Fprintf(&b, "%%%02X", c)
		}
	}
	return b.String()
}

func stamp(t time.Time) string { return t.UTC().Format(time.RFC3339) }

// PROV writes a lineage as provenance: tables and certificates are entities, what made them activities, in which the fix plans and
// merges were plans, and people agents.
func (l *Lineage) PROV(out io.Writer) error {
	graph := []node{}
	people, plans := map[string]bool{}, map[int64]bool{}
	agent := func(name string) string {
		id := person(name)
		if !people[id] {
			people[id] = true
			graph = append(graph, node{"@id": id, "@type": []string{"prov:Agent", "prov:Person"}, "label": name})
		}
		return id
	}
	of := map[int64][]string{}
	for _, link := range l.Links {
		of[link.Made] = append(of[link.Made], tableName(link.Of))
	}
	for i := range l.Tables {
		t := &l.Tables[i]
		entity := node{"@id": tableName(t.ID), "@type": "prov:Entity", "label": fmt.Sprintf("table %d of %s", t.ID, t.Dataset), "sha256": t.Digest, "bytes": t.Bytes,
			"dataset": t.Dataset, "origin": t.Origin, "file": t.FileName, "generatedAtTime": stamp(t.CreatedAt), "wasAttributedTo": agent(t.CreatedBy)}
		if t.Rows != nil {
			entity["rows"] = *t.Rows
		}
		if t.ChangeLog != nil {
			entity["changeLog"] = *t.ChangeLog
		}
		if t.WithdrawnAt != nil {
			entity["invalidatedAtTime"], entity["reason"] = stamp(*t.WithdrawnAt), *t.Withdrawn
		}
		if inputs := of[t.ID]; len(inputs) > 0 {
			entity["wasDerivedFrom"], entity["wasGeneratedBy"] = inputs, runName(t.ID)
			run := node{"@id": runName(t.ID), "@type": "prov:Activity", "used": inputs, "wasAssociatedWith": agent(t.CreatedBy), "endedAtTime": stamp(t.CreatedAt)}
			if t.DeclarationID != nil && t.Declaration != nil {
				run["label"] = "ran " + *t.Declaration
				run["qualifiedAssociation"] = node{"@type": "prov:Association", "agent": agent(t.CreatedBy), "hadPlan": planName(*t.DeclarationID)}
				if !plans[*t.DeclarationID] {
					plans[*t.DeclarationID] = true
					graph = append(graph, node{"@id": planName(*t.DeclarationID), "@type": []string{"prov:Entity", "prov:Plan"}, "label": *t.Declaration})
				}
			}
			graph = append(graph, run)
		}
		graph = append(graph, entity)
	}
	for i := range l.Certificates {
		c := &l.Certificates[i]
		entity := node{"@id": certificateName(c.ID), "@type": "prov:Entity", "label": fmt.Sprintf("certificate %d of table %d", c.ID, c.TableID), "signature": c.Signature,
			"wasDerivedFrom": tableName(c.TableID), "wasAttributedTo": agent(c.CreatedBy), "generatedAtTime": stamp(c.CreatedAt)}
		if c.Withdrawn != nil {
			entity["reason"] = *c.Withdrawn
		}
		graph = append(graph, entity)
	}
	w := json.NewEncoder(out)
	w.SetIndent("", "  ")
	w.SetEscapeHTML(false)
	return w.Encode(node{"@context": vocabulary, "@graph": graph})
}
