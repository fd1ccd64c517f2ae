// Package client speaks the HTTP interface of the service.
package client

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"proudsieve/service/api"
	"proudsieve/service/records"
)

// Client calls one service as one person.
type Client struct {
	Server string // as http://127.0.0.1:7305
	Token  string
	HTTP   *http.Client // nil for http.DefaultClient
}

// Problem is an error that the service answered with (RFC 9457).
type Problem struct {
	Status   int      `json:"status"`
	Title    string   `json:"title"`
	Detail   string   `json:"detail"`
	Instance string   `json:"instance"` // the number of the request, by which the service's log knows it
	Errors   []Detail `json:"errors"`
}

// Detail is one of several things that are wrong.
type Detail struct {
	Message  string `json:"message"`
	Location string `json:"location"`
}

// Error implements error.
func (p *Problem) Error() string {
	lines := []string{p.Detail}
	if p.Status >= http.StatusInternalServerError && p.Instance != "" {
		lines = append(lines, "  its number is "+p.Instance)
	}
	for _, d := range p.Errors {
		if d.Location != "" {
			d.Message = d.Location + ": " + d.Message
		}
		lines = append(lines, "  "+d.Message)
	}
	return strings.Join(lines, "\n")
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

// do sends a request and returns the answer, whose body the caller closes. An
// answer that is no success is returned as a *Problem.
func (c *Client) do(ctx context.Context, method, path string, body io.Reader, header http.Header) (*http.Response, error) {
	request, err := http.NewRequestWithContext(ctx, method, c.Server+api.Prefix+path, body)
	if err != nil {
		return nil, err
	}
	for name, values := range header {
		request.Header[name] = values
	}
	if c.Token != "" {
		request.Header.Set("Authorization", "Bearer "+c.Token)
	}
	h := c.HTTP
	if h == nil {
		h = http.DefaultClient
	}
	response, err := h.Do(request)
	if err != nil {
		return nil, fmt.Errorf("the service at %s does not answer: %w", c.Server, errors.Unwrap(err))
	}
	if response.StatusCode < 300 {
		return response, nil
	}
	defer response.Body.Close()
	p := Problem{Status: response.StatusCode, Title: response.Status}
	if json.NewDecoder(io.LimitReader(response.Body, 4<<20)).Decode(&p) != nil || p.Detail == "" {
		p.Detail = fmt.Sprintf("%s answered %s %s with %s", c.Server, method, path, response.Status)
	}
	return nil, &p
}

// call sends in as JSON, if there is any, and reads the answer into a T.
func call[T any](ctx context.Context, c *Client, method, path string, in any, header http.Header) (*T, error) {
	var body io.Reader
	if header == nil {
		header = http.Header{}
	}
	if in != nil {
		raw, err := json.Marshal(in)
		if err != nil {
			return nil, err
		}
		body = bytes.NewReader(raw)
		header.Set("Content-Type", "application/json")
	}
	response, err := c.do(ctx, method, path, body, header)
	if err != nil {
		return nil, err
	}
	defer response.Body.Close()
	var out T
	if response.StatusCode == http.StatusNoContent {
		return &out, nil
	}
	if err := json.NewDecoder(response.Body).Decode(&out); err != nil {
		return nil, fmt.Errorf("the answer to %s %s cannot be read: %w", method, path, err)
	}
	return &out, nil
}

// Get reads what is at a path into a T.
func Get[T any](ctx context.Context, c *Client, path string) (*T, error) {
	return call[T](ctx, c, http.MethodGet, path, nil, nil)
}

// Post sends in to a path and reads the answer into a T.
func Post[T any](ctx context.Context, c *Client, path string, in any) (*T, error) {
	return call[T](ctx, c, http.MethodPost, path, in, nil)
}

// Put puts in at a path and reads the answer into a T.
func Put[T any](ctx context.Context, c *Client, path string, in any) (*T, error) {
	return call[T](ctx, c, http.MethodPut, path, in, nil)
}

// Patch sends a change of what is at a path and reads the answer into a T.
func Patch[T any](ctx context.Context, c *Client, path string, in any) (*T, error) {
	return call[T](ctx, c, http.MethodPatch, path, in, nil)
}

// All reads every page of a list.
func All[T any](ctx context.Context, c *Client, path string) ([]T, error) {
	all := []T{}
	for after := ""; ; {
		separator := "?"
		if strings.Contains(path, "?") {
			separator = "&"
		}
		page, err := Get[records.Page[T]](ctx, c, path+separator+"limit=500&after="+url.QueryEscape(after))
		if err != nil {
			return nil, err
		}
		all = append(all, page.Items...)
		if after = page.Next; after == "" {
			return all, nil
		}
	}
}

// Delete removes what is at a path.
func (c *Client) Delete(ctx context.Context, path string) error {
	_, err := call[struct{}](ctx, c, http.MethodDelete, path, nil, nil)
	return err
}

// Declare saves the first version of a rulebook, fix plan or merge; kind is rulebooks, fix-plans
// or merges.
func (c *Client) Declare(ctx context.Context, kind string, source []byte) (*records.Declaration, error) {
	return c.DeclareAfter(ctx, kind, source, 0)
}

// DeclareAfter is Declare for a text that was made from a version, which must still be the
// newest one; 0 for the first.
func (c *Client) DeclareAfter(ctx context.Context, kind string, source []byte, version int) (*records.Declaration, error) {
	header := http.Header{}
	if version > 0 {
		header.Set("If-Match", strconv.Quote(strconv.Itoa(version)))
	}
	return call[records.Declaration](ctx, c, http.MethodPost, "/"+kind, map[string]string{"source": string(source)}, header)
}

// Deliver uploads a delivery.
func (c *Client) Deliver(ctx context.Context, dataset, fileName string, notes records.SourceNotes, in io.Reader) (*records.Delivered, error) {
	path := "/datasets/" + url.PathEscape(dataset) + "/deliveries" + Query("file_name", fileName, "provider", notes.Provider, "contact", notes.Contact,
		"period", notes.Period, "method", notes.Method, "limits", notes.Limits, "note", notes.Note)
	response, err := c.do(ctx, http.MethodPost, path, in, http.Header{"Content-Type": {"application/octet-stream"}})
	if err != nil {
		return nil, err
	}
	defer response.Body.Close()
	var out records.Delivered
	return &out, json.NewDecoder(response.Body).Decode(&out)
}

// Download copies the bytes at a path to out.
func (c *Client) Download(ctx context.Context, path string, out io.Writer) error {
	response, err := c.do(ctx, http.MethodGet, path, nil, nil)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	_, err = io.Copy(out, response.Body)
	return err
}

// EditIssue sends a change of an issue as it is now; method and suffix say which.
func (c *Client) EditIssue(ctx context.Context, method string, id int64, suffix string, in any) (*records.IssueShown, error) {
	issue, err := Get[records.Issue](ctx, c, fmt.Sprintf("/issues/%d", id))
	if err != nil {
		return nil, err
	}
	return call[records.IssueShown](ctx, c, method, fmt.Sprintf("/issues/%d%s", id, suffix), in, http.Header{"If-Match": {strconv.Quote(strconv.Itoa(issue.Version))}})
}

// JobFailed is a job that ended without doing what it was for.
type JobFailed struct{ Job records.Job }

// Error implements error.
func (e *JobFailed) Error() string {
	if e.Job.State == "stopped" {
		return fmt.Sprintf("job %d was stopped; nothing of it was kept", e.Job.ID)
	}
	return fmt.Sprintf("job %d (%s of %s) failed: %s", e.Job.ID, e.Job.Kind, e.Job.Dataset, e.Job.Error)
}

// Follow waits for a job to end, tells progress how far it is, and returns it with its
// result. A job that failed or was stopped is a *JobFailed.
func (c *Client) Follow(ctx context.Context, id int64, progress func(records.Job)) (*records.Job, error) {
	response, err := c.do(ctx, http.MethodGet, fmt.Sprintf("/jobs/%d/events", id), nil, http.Header{"Accept": {"text/event-stream"}})
	if err != nil {
		return nil, err
	}
	defer response.Body.Close()
	lines := bufio.NewScanner(response.Body)
	lines.Buffer(nil, 4<<20)
	for lines.Scan() {
		data, ok := strings.CutPrefix(lines.Text(), "data: ")
		if !ok {
			continue
		}
		var job records.Job
		if err := json.Unmarshal([]byte(data), &job); err != nil {
			return nil, err
		}
		if progress != nil {
			progress(job)
		}
	}
	if err := lines.Err(); err != nil {
		return nil, err
	}
	job, err := Get[records.Job](ctx, c, fmt.Sprintf("/jobs/%d", id))
	if err != nil {
		return nil, err
	}
	if job.State != "done" {
		return job, &JobFailed{*job}
	}
	return job, nil
}

// AuditOf waits until a table that a job made or that arrived has been audited.
func (c *Client) AuditOf(ctx context.Context, table int64, progress func(records.Job)) (*api.AuditShown, error) {
	jobs, err := Get[records.Page[records.Job]](ctx, c, fmt.Sprintf("/jobs?table=%d", table))
	if err != nil {
		return nil, err
	}
	for _, j := range jobs.Items {
		if j.Kind != "audit" {
			continue
		}
		done, err := c.Follow(ctx, j.ID, progress)
		if err != nil {
			return nil, err
		}
		return Get[api.AuditShown](ctx, c, fmt.Sprintf("/audits/%d", *done.AuditID))
	}
	return nil, fmt.Errorf("no audit of table %d was asked for", table)
}
