package keeping

import (
	"context"
	"errors"

	"proudsieve/service/files"
	"proudsieve/service/store"
)

// Checked is what a check of a file store against the records found.
type Checked struct {
	Files   int      `json:"files"` // that the records speak of
	Bytes   int64    `json:"bytes"`
	Missing []string `json:"missing"`  // what the records speak of and the store does not have
	Altered []string `json:"altered"`  // whose bytes are not those that were kept
	TooMuch []string `json:"too_much"` // digests that no record speaks of; a sweep removes them
	Resting int      `json:"resting"`  // how many there are in a bucket, where they rest for a day first
}

// Good reports whether all is there as it was kept.
func (c *Checked) Good() bool { return len(c.Missing)+len(c.Altered)+len(c.TooMuch) == 0 }

// Check reads all files of a store again and holds them against their names and the records.
func Check(ctx context.Context, place Place) (*Checked, error) {
	kept, err := place.files(ctx)
	if err != nil {
		return nil, err
	}
	defer kept.Close()
	resume, err := kept.Pause()
	if err != nil {
		return nil, err
	}
	defer resume()
	s, err := store.Look(ctx, place.Database)
	if err != nil {
		return nil, err
	}
	defer s.Close()
	// The store is listed before the records are: what is kept in between is in neither, or recorded.
	var there []string
	if err := kept.Each(ctx, func(digest string, _ int64) error {
		there = append(there, digest)
		return nil
	}); err != nil {
		return nil, err
	}
	c := &Checked{Missing: []string{}, Altered: []string{}, TooMuch: []string{}}
	known := map[string]bool{}
	err = store.AllDigests(ctx, s.DB, func(digest, of string) error {
		if known[digest] {
			return nil
		}
		known[digest] = true
		f, err := kept.Open(digest)
		if errors.Is(err, files.ErrNotFound) {
			c.Missing = append(c.Missing, of+": "+digest)
			return nil
		}
		if err != nil {
			return err
		}
		defer f.Close()
		c.Files++
		c.Bytes += f.Size()
		is, err := sum(ctx, f)
		if err == nil && is != digest {
			c.Altered = append(c.Altered, of+": "+digest)
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	for _, digest := range there {
		switch {
		case known[digest]:
		case place.Bucket != nil:
			c.Resting++
		default:
			c.TooMuch = append(c.TooMuch, digest)
		}
	}
	return c, nil
}
