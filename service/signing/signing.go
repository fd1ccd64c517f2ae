// Package signing keeps the key that certificates are signed with: the private half in a file of mode 0600, the public halves
// of all keys that there ever were among the records, so that what an earlier key signed still verifies.
package signing

import (
	"context"
	"errors"
	"fmt"
	"os"
	"sync"

	"github.com/jmoiron/sqlx"

	"proudsieve/core/certify"
	"proudsieve/durable"
	"proudsieve/service/store"
)

// Key is the signing key of a service. Several nodes may have one file; one that was left behind by a rotation signs nothing.
type Key struct {
	store *store.Store
	path  string

	mutex   sync.Mutex
	private []byte
	file    os.FileInfo // what was read; times are coarse, so that two files may have one
}

// ErrBehind says that this node has an earlier key than the one that counts.
var ErrBehind = errors.New("this node has an earlier signing key than the one that counts now; put the new file in its place")

// Open reads the key of a file, which is made where there is none, and records its public half.
func Open(ctx context.Context, s *store.Store, path string) (*Key, error) {
	k := &Key{store: s, path: path}
	if _, err := os.Stat(path); errors.Is(err, os.ErrNotExist) {
		made, err := certify.NewKey()
		if err != nil {
			return nil, err
		}
		// Of several nodes that start together on one directory, the first one's key counts.
		if err := durable.Create(path, made, 0o600); err != nil && !errors.Is(err, os.ErrExist) {
			return nil, err
		}
	}
	private, err := k.Private()
	if err != nil {
		return nil, err
	}
	if _, err := certify.PublicKey(private); err != nil {
		return nil, fmt.Errorf("%s: %w; put it back from a backup", path, err)
	}
	return k, record(ctx, s.DB, private)
}

func record(ctx context.Context, q store.Querier, private []byte) error {
	id, err := certify.KeyID(private)
	if err != nil {
		return err
	}
	public, err := certify.PublicKey(private)
	if err != nil {
		return err
	}
	return store.AddSigningKey(ctx, q, id, public)
}

// Private returns the private key, as the file has it now.
func (k *Key) Private() ([]byte, error) {
	k.mutex.Lock()
	defer k.mutex.Unlock()
	info, err := os.Stat(k.path)
	if err != nil {
		return nil, err
	}
	if k.private == nil || !os.SameFile(info, k.file) || !info.ModTime().Equal(k.file.ModTime()) {
		if k.private, err = durable.ReadSecret(k.path); err != nil {
			return nil, err
		}
		k.file = info
	}
	return k.private, nil
}

// Current returns the private key to sign with; ErrBehind where another one counts by now.
func (k *Key) Current(ctx context.Context) ([]byte, error) { return k.current(ctx, k.store.DB) }

func (k *Key) current(ctx context.Context, q store.Querier) ([]byte, error) {
	private, err := k.Private()
	if err != nil {
		return nil, err
	}
	id, err := certify.KeyID(private)
	if err != nil {
		return nil, err
	}
	newest, err := store.NewestSigningKey(ctx, q)
	if err == nil && newest != id {
		// A rotation that was cut off left its key in the file alone: it is recorded now. One that is behind is known already.
		if err = record(ctx, q, private); err == nil {
			newest, err = store.NewestSigningKey(ctx, q)
		}
	}
	if err == nil && newest != id {
		err = ErrBehind
	}
	return private, err
}

// Public returns the public half of the key, and Set those of all keys that there were.
func (k *Key) Public() ([]byte, error) {
	private, err := k.Private()
	if err != nil {
		return nil, err
	}
	return certify.PublicKey(private)
}

// Set returns the public halves of all keys as a JWK set, the newest first.
func (k *Key) Set(ctx context.Context) ([]byte, error) {
	all, err := store.SigningKeys(ctx, k.store.DB)
	if err != nil {
		return nil, err
	}
	keys := make([][]byte, len(all))
	for i, one := range all {
		keys[i] = one
	}
	return certify.KeySet(keys...)
}

// Rotate makes a new key, which signs from now on; the private half of the one before is gone. then records what more has to be
// recorded.
func (k *Key) Rotate(ctx context.Context, then func(tx *sqlx.Tx, id string) error) error {
	return k.store.Do(ctx, func(tx *sqlx.Tx) error {
		// One after the other, on whichever node: else the file could have the key of one, and the records that of another as the newest.
		if err := store.LockSigningKeys(ctx, tx); err != nil {
			return err
		}
		if _, err := k.current(ctx, tx); err != nil {
			return err
		}
		made, err := certify.NewKey()
		if err != nil {
			return err
		}
		id, err := certify.KeyID(made)
		if err != nil {
			return err
		}
		// The file comes first: should the record fail, the key that is there is recorded when it is wanted next.
		if err := durable.WriteFile(k.path, made, 0o600); err != nil {
			return err
		}
		if err := record(ctx, tx, made); err != nil {
			return err
		}
		return then(tx, id)
	})
}
