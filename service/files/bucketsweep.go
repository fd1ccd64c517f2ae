package files

import (
	"context"
	"errors"
	"time"

	"github.com/minio/minio-go/v7"
)

// sweepOnce is how many digests are asked for at once.
const sweepOnce = 500

// Sweep implements Store. Nodes share no lock that would keep bytes from being removed at the moment in which another node is about
// to record them. So nothing is removed at once. What has no record and has rested is set aside, under another name; what has
// rested there as well, and has no record still, is removed. Whoever reads what was set aside has it back (see look), and whoever
// keeps the same bytes anew writes them anew where they have rested for long. Clocks of nodes and server may differ by much less than the rest.
func (b *Bucket) Sweep(ctx context.Context, recorded Recorded) (Swept, error) {
	var swept Swept
	err := errors.Join(b.spool.sweepParts(ctx, &swept), b.abortUploads(ctx))
	if err != nil {
		return swept, err
	}
	err = b.judged(ctx, "", recorded, func(o *minio.ObjectInfo, digest string, known bool) error {
		swept.Kept += o.Size
		if known || !b.rested(o.LastModified) {
			return nil
		}
		if err := b.copy(ctx, b.key(digest), b.aside(digest)); err != nil && !errors.Is(err, ErrNotFound) {
			return err
		}
		swept.Files++
		swept.Bytes += o.Size
		swept.Kept -= o.Size
		b.cache.forget(digest)
		return b.remove(ctx, b.key(digest))
	})
	if err != nil {
		return swept, err
	}
	return swept, b.judged(ctx, "aside/", recorded, func(o *minio.ObjectInfo, digest string, known bool) error {
		if known {
			if _, err := b.look(ctx, digest); err != nil {
				return err
			}
		}
		if !b.rested(o.LastModified) { // a sweep that set it aside may not have come to the end of it
			return nil
		}
		return b.remove(ctx, b.aside(digest))
	})
}

func (b *Bucket) rested(since time.Time) bool { return time.Since(since) >= b.options.Rest }

func (b *Bucket) remove(ctx context.Context, key string) error {
	return b.told(b.client.RemoveObject(ctx, b.options.Name, key, minio.RemoveObjectOptions{}))
}

// judged calls f for the objects under a prefix, with whether each has a record.
func (b *Bucket) judged(ctx context.Context, below string, recorded Recorded, f func(o *minio.ObjectInfo, digest string, known bool) error) error {
	var objects []*minio.ObjectInfo
	var digests []string
	judge := func() error {
		if len(digests) == 0 {
			return nil
		}
		known, err := recorded(ctx, digests)
		if err != nil {
			return err
		}
		for i, o := range objects {
			if err := f(o, digests[i], known[digests[i]]); err != nil {
				return err
			}
		}
		objects, digests = objects[:0], digests[:0]
		return nil
	}
	err := b.each(ctx, below, func(o *minio.ObjectInfo, digest string) error {
		one := *o
		objects, digests = append(objects, &one), append(digests, digest)
		if len(digests) < sweepOnce {
			return nil
		}
		return judge()
	})
	if err != nil {
		return err
	}
	return judge()
}

// abortUploads forgets what nodes that were killed had begun to send.
func (b *Bucket) abortUploads(ctx context.Context) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	for u := range b.client.ListIncompleteUploads(ctx, b.options.Name, b.options.Prefix, true) {
		if minio.ToErrorResponse(u.Err).Code == minio.NoSuchUpload { // some servers say so where there are none
			return nil
		}
		if u.Err != nil {
			return b.told(u.Err)
		}
		if !b.rested(u.Initiated) {
			continue
		}
		if err := (minio.Core{Client: b.client}).AbortMultipartUpload(ctx, b.options.Name, u.Key, u.UploadID); err != nil && minio.ToErrorResponse(err).Code != minio.NoSuchUpload {
			return b.told(err)
		}
	}
	return nil
}
