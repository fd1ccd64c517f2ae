package store

import (
	"context"
	"strings"
)

// foundOfEach is how many things of a kind a search finds.
const foundOfEach = 8

// newestAudited are the newest audited delivery of each dataset, with what was found of it.
const newestAudited = `(SELECT DISTINCT ON (a.dataset_id) a.dataset_id, a.table_id, a.result FROM audits a JOIN tables t ON t.id = a.table_id
	WHERE t.origin = 'delivery' AND NOT EXISTS (SELECT FROM withdrawals WHERE table_id = t.id) ORDER BY a.dataset_id, a.id DESC)`

// searches are what each kind of thing is looked for in; $1 is the pattern.
var searches = []string{
	`SELECT 'dataset' AS kind, d.name, d.name AS dataset, d.title AS says, 0::bigint AS id FROM datasets d WHERE d.name ILIKE $1 OR d.title ILIKE $1 ORDER BY d.name`,
	`SELECT 'column' AS kind, c->>'name' AS name, d.name AS dataset, c->>'type' AS says, a.table_id AS id FROM ` + newestAudited + ` a
		JOIN datasets d ON d.id = a.dataset_id, json_array_elements(a.result->'columns') c WHERE c->>'name' ILIKE $1 ORDER BY 2, 3`,
	`SELECT DISTINCT 'rule' AS kind, m[1] AS name, d.name AS dataset, '' AS says, 0::bigint AS id FROM
		(SELECT DISTINCT ON (dataset_id) dataset_id, source FROM declarations WHERE kind = 'rulebook' ORDER BY dataset_id, version DESC) b
		JOIN datasets d ON d.id = b.dataset_id, regexp_matches(b.source, '\mid:\s*([a-z][a-z0-9_]*)', 'g') m WHERE m[1] ILIKE $1 ORDER BY 2, 3`,
	`SELECT 'issue' AS kind, i.title AS name, d.name AS dataset, i.state AS says, i.id FROM issues i JOIN datasets d ON d.id = i.dataset_id
		WHERE i.title ILIKE $1 OR i.rule ILIKE $1 OR i.id::text = $2 ORDER BY i.state = 'closed', i.id DESC`,
	`SELECT 'delivery' AS kind, t.file_name AS name, d.name AS dataset, to_char(t.created_at, 'YYYY-MM-DD') AS says, t.id FROM tables t
		JOIN datasets d ON d.id = t.dataset_id WHERE t.origin = 'delivery' AND (t.file_name ILIKE $1 OR t.source::text ILIKE $1 OR t.digest = lower($2)) ORDER BY t.id DESC`,
	`SELECT 'certificate' AS kind, 'certificate ' || c.id AS name, d.name AS dataset, to_char(c.created_at, 'YYYY-MM-DD') AS says, c.id FROM certificates c
		JOIN tables t ON t.id = c.table_id JOIN datasets d ON d.id = t.dataset_id WHERE d.name ILIKE $1 OR c.id::text = $2 OR t.digest = lower($2) ORDER BY c.id DESC`,
}

// Search finds what has a text in its name, whatever its case: of each kind the first.
func Search(ctx context.Context, q Querier, text string) (*Found, error) {
	pattern := "%" + strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`).Replace(text) + "%"
	out := &Found{Hits: []Hit{}, More: []string{}}
	for _, search := range searches {
		// Not each of them uses both texts, which PostgreSQL wants to know the types of.
		hits, err := list[Hit](ctx, q, "SELECT * FROM ("+search+") s WHERE $1::text IS NOT NULL AND $2::text IS NOT NULL"+seen(ctx, "(SELECT id FROM datasets WHERE name = s.dataset)")+" LIMIT $3", pattern, text, foundOfEach+1)
		if err != nil {
			return nil, err
		}
		if len(hits) > foundOfEach {
			hits = hits[:foundOfEach]
			out.More = append(out.More, hits[0].Kind)
		}
		out.Hits = append(out.Hits, hits...)
	}
	return out, nil
}
