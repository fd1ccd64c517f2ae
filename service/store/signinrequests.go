package store

import (
	"context"
	"errors"
	"time"

	"proudsieve/service/records"
)

// ErrManyRequests says that too many command lines ask to come in.
var ErrManyRequests = errors.New("too many command lines ask to come in at this moment; try again in some minutes")

// requestsMost is how many command lines may wait at a time, in all and of one address.
const (
	requestsMost       = 500
	requestsOfOneMost  = 20
	requestsNoticeable = " WHERE until > now() AND let_in IS NULL"
)

// AddSignInRequest records that a command line asks to come in. Those whose time is over are forgotten.
func AddSignInRequest(ctx context.Context, q Querier, code string, hash []byte, machine, address string, until time.Time) error {
	if _, err := exec(ctx, q, "DELETE FROM sign_in_requests WHERE until < now()"); err != nil {
		return err
	}
	for most, of := range map[int]string{requestsMost: "", requestsOfOneMost: address} {
		n, err := get[int](ctx, q, "count", "SELECT count(*) FROM sign_in_requests"+requestsNoticeable+" AND ($1 = '' OR address = $1)", of)
		if err != nil {
			return err
		}
		if *n >= most {
			return ErrManyRequests
		}
	}
	_, err := exec(ctx, q, "INSERT INTO sign_in_requests (code, secret_hash, machine, address, until) VALUES ($1, $2, $3, $4, $5)", code, hash, machine, address, until)
	return err
}

// FindSignInRequest returns the one with a code that nobody answered yet.
func FindSignInRequest(ctx context.Context, q Querier, code string) (*records.SignInRequest, error) {
	return get[records.SignInRequest](ctx, q, "command line that asks to come in by this code", "SELECT id, machine, address, until FROM sign_in_requests"+requestsNoticeable+" AND code = $1", code)
}

// AnswerSignInRequest lets it in as a person, or refuses it. ok is false where somebody answered before.
func AnswerSignInRequest(ctx context.Context, q Querier, id, person int64, letIn bool) (ok bool, err error) {
	return changed(exec(ctx, q, "UPDATE sign_in_requests SET person_id = $2, let_in = $3"+requestsNoticeable+" AND id = $1", id, person, letIn))
}

// Answered is what came of a request: nil in LetIn where nobody answered yet.
type Answered struct {
	ID       int64  `db:"id"`
	Machine  string `db:"machine"`
	LetIn    *bool  `db:"let_in"`
	PersonID *int64 `db:"person_id"`
}

// CollectSignInRequest returns the request with a secret, locked, and forgets it once it was answered: a token is made of it once.
func CollectSignInRequest(ctx context.Context, q Querier, hash []byte) (*Answered, error) {
	a, err := get[Answered](ctx, q, "command line that asks to come in", "SELECT id, machine, let_in, person_id FROM sign_in_requests WHERE secret_hash = $1 AND until > now() FOR UPDATE", hash)
	if err != nil || a.LetIn == nil {
		return a, err
	}
	_, err = exec(ctx, q, "DELETE FROM sign_in_requests WHERE id = $1", a.ID)
	return a, err
}
