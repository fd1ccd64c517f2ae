package servicetest

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/url"
	"strings"

	"proudsieve/client"
	"proudsieve/service/records"
)

// Tests speak the interface by its addresses, as programs of others do.

// Get reads what is at an address into a T.
func Get[T any](ctx context.Context, c *client.Client, path string) (*T, error) {
	return call[T](ctx, c, http.MethodGet, path, nil)
}

// Post sends in to an address and reads the answer into a T.
func Post[T any](ctx context.Context, c *client.Client, path string, in any) (*T, error) {
	return call[T](ctx, c, http.MethodPost, path, in)
}

// Put puts in at an address and reads the answer into a T.
func Put[T any](ctx context.Context, c *client.Client, path string, in any) (*T, error) {
	return call[T](ctx, c, http.MethodPut, path, in)
}

// Patch sends a change of what is at an address and reads the answer into a T.
func Patch[T any](ctx context.Context, c *client.Client, path string, in any) (*T, error) {
	return call[T](ctx, c, http.MethodPatch, path, in)
}

// Delete removes what is at an address.
func Delete(ctx context.Context, c *client.Client, path string) error {
	_, err := c.Call(ctx, http.MethodDelete, path, nil)
	return err
}

func call[T any](ctx context.Context, c *client.Client, method, path string, in any) (*T, error) {
	raw, err := c.Call(ctx, method, path, in)
	if err != nil {
		return nil, err
	}
	var out T
	if len(raw) == 0 {
		return &out, nil
	}
	return &out, json.Unmarshal(raw, &out)
}

// All reads every page of a list.
func All[T any](ctx context.Context, c *client.Client, path string) ([]T, error) {
	separator := "?"
	if strings.Contains(path, "?") {
		separator = "&"
	}
	return client.All(func(after string, _ int64) (*records.Page[T], error) {
		return Get[records.Page[T]](ctx, c, path+separator+"limit=500&after="+url.QueryEscape(after))
	})
}

// Query builds the query of an address out of names and values; empty values are left out.
func Query(pairs ...string) string {
	values := url.Values{}
	for i := 0; i+1 < len(pairs); i += 2 {
		if pairs[i+1] != "" && pairs[i+1] != "0" {
			values.Set(pairs[i], pairs[i+1])
		}
	}
	if len(values) == 0 {
		return ""
	}
	return "?" + values.Encode()
}

// Download copies what is at an address to out.
func Download(ctx context.Context, c *client.Client, path string, out io.Writer) error {
	raw, err := c.Call(ctx, http.MethodGet, path, nil)
	if err != nil {
		return err
	}
	_, err = out.Write(raw)
	return err
}
