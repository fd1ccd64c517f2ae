// Package client speaks the HTTP interface of the service: a method for each operation, which
// oapi-codegen makes out of the interface's description (operations.gen.go, by make generate), and
// what belongs together: uploads, following a job, every page of a list.
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
	"reflect"
	"strconv"
	"strings"

	"proudsieve/service/records"
)

// Prefix is where the operations are.
const Prefix = "/api/v1"

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

// do sends a request and returns the answer, whose body the caller closes. An
// answer that is no success is returned as a *Problem.
func (c *Client) do(ctx context.Context, method, path string, body io.Reader,
	header http.Header) (*http.Response, error) {
	request, err := http.NewRequestWithContext(ctx, method, c.Server+Prefix+path, body)
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

// request is one call of an operation.
type request struct {
	method, path string
	params       any // a struct of the operation's parameters, or nil
	body         any // sent as JSON, or nil
}

// pathOf writes an operation's path with its parameters.
func pathOf(format string, params ...any) string {
	escaped := make([]any, len(params))
	for i, p := range params {
		escaped[i] = url.PathEscape(fmt.Sprint(p))
	}
	return fmt.Sprintf(format, escaped...)
}

// send sends a request; its answer is a success, whose body the caller closes.
func (c *Client) send(ctx context.Context, r request) (*http.Response, error) {
	header, query := parametersOf(r.params)
	if len(query) > 0 {
		r.path += "?" + query.Encode()
	}
	var body io.Reader
	if r.body != nil {
		raw, err := json.Marshal(r.body)
		if err != nil {
			return nil, err
		}
		body = bytes.NewReader(raw)
		header.Set("Content-Type", "application/json")
	}
	return c.do(ctx, r.method, r.path, body, header)
}

// parametersOf takes a struct of parameters apart by its tags: those of a form stand in the
// address, the others in the header. What is not set is left out.
func parametersOf(params any) (http.Header, url.Values) {
	header, query := http.Header{}, url.Values{}
	v := reflect.ValueOf(params)
	if v.Kind() != reflect.Pointer || v.IsNil() {
		return header, query
	}
	v = v.Elem()
	for i := range v.NumField() {
		if v.Field(i).IsZero() {
			continue
		}
		text, tag := fmt.Sprint(v.Field(i).Interface()), v.Type().Field(i).Tag
		if several, ok := v.Field(i).Interface().([]string); ok {
			name, _, _ := strings.Cut(tag.Get("form"), ",")
			query[name] = several
		} else if name, _, _ := strings.Cut(tag.Get("form"), ","); name != "" {
			query.Set(name, text)
		} else if name, _, _ := strings.Cut(tag.Get("json"), ","); name != "" {
			header.Set(name, text)
		}
	}
	return header, query
}

// answered reads the answer to a request into a T.
func answered[T any](ctx context.Context, c *Client, r request) (*T, error) {
	response, err := c.send(ctx, r)
	if err != nil {
		return nil, err
	}
	defer response.Body.Close()
	var out T
	if err := json.NewDecoder(response.Body).Decode(&out); err != nil {
		return nil, fmt.Errorf("the answer to %s %s cannot be read: %w", r.method, r.path, err)
	}
	return &out, nil
}

// done sends a request that is answered by nothing.
func (c *Client) done(ctx context.Context, r request) error {
	response, err := c.send(ctx, r)
	if err != nil {
		return err
	}
	return response.Body.Close()
}

// stream sends a request whose answer is read as it comes.
func (c *Client) stream(ctx context.Context, r request) (io.ReadCloser, error) {
	response, err := c.send(ctx, r)
	if err != nil {
		return nil, err
	}
	return response.Body, nil
}

// Call sends in, as JSON where there is any, to an address and returns the answer as it comes,
// for whoever measures or tests the interface by its addresses.
func (c *Client) Call(ctx context.Context, method, path string, in any) (json.RawMessage, error) {
	response, err := c.send(ctx, request{method: method, path: path, body: in})
	if err != nil {
		return nil, err
	}
	defer response.Body.Close()
	return io.ReadAll(response.Body)
}

// Decode reads what an operation answered with, and the client handed on as it came.
func Decode[T any](raw *json.RawMessage, err error) (*T, error) {
	if err != nil {
		return nil, err
	}
	var out T
	if err := json.Unmarshal(*raw, &out); err != nil {
		return nil, fmt.Errorf("the answer of the service cannot be read: %w", err)
	}
	return &out, nil
}

// All reads every page of a list; next reads the one after a cursor, of limit entries.
func All[T any](next func(after string, limit int64) (*records.Page[T], error)) ([]T, error) {
	all := []T{}
	for after := ""; ; {
		page, err := next(after, pageLimit)
		if err != nil {
			return nil, err
		}
		all = append(all, page.Items...)
		if after = page.Next; after == "" {
			return all, nil
		}
	}
}

const pageLimit = 500

// Declare saves the first version of a rulebook, fix plan or merge; kind is rulebooks, fix-plans
// or merges.
func (c *Client) Declare(ctx context.Context, kind string, source []byte) (*records.Declaration, error) {
	return c.DeclareAfter(ctx, kind, source, 0)
}

// DeclareAfter is Declare for a text that was made from a version, which must still be the
// newest one; 0 for the first.
func (c *Client) DeclareAfter(ctx context.Context, kind string, source []byte,
	version int) (*records.Declaration, error) {
	match := ""
	if version > 0 {
		match = strconv.Quote(strconv.Itoa(version))
	}
	body := SavingBody{Source: string(source)}
	switch kind {
	case "rulebooks":
		return c.AddRulebook(ctx, &AddRulebookParams{IfMatch: match}, SavingRulebookBody{Source: body.Source})
	case "fix-plans":
		return c.AddFixPlan(ctx, &AddFixPlanParams{IfMatch: match}, body)
	case "merges":
		return c.AddMerge(ctx, &AddMergeParams{IfMatch: match}, body)
	}
	return nil, fmt.Errorf("there are no declarations %q; there are rulebooks, fix-plans and merges", kind)
}

// Deliver uploads a delivery.
func (c *Client) Deliver(ctx context.Context, dataset, fileName string, notes records.SourceNotes,
	in io.Reader) (*records.Delivered, error) {
	query := url.Values{}
	for name, value := range map[string]string{"file_name": fileName, "provider": notes.Provider,
		"contact": notes.Contact, "period": notes.Period, "method": notes.Method, "limits": notes.Limits,
		"note": notes.Note} {
		if value != "" {
			query.Set(name, value)
		}
	}
	return upload[records.Delivered](ctx, c, pathOf("/datasets/%s/deliveries", dataset)+"?"+query.Encode(), in)
}

// Arrive sends a file to be looked at before it becomes a delivery.
func (c *Client) Arrive(ctx context.Context, fileName string, in io.Reader) (*records.Arrival, error) {
	return upload[records.Arrival](ctx, c, "/arrivals?"+url.Values{"file_name": {fileName}}.Encode(), in)
}

// upload sends bytes as they are.
func upload[T any](ctx context.Context, c *Client, path string, in io.Reader) (*T, error) {
	response, err := c.do(ctx, http.MethodPost, path, in, http.Header{"Content-Type": {"application/octet-stream"}})
	if err != nil {
		return nil, err
	}
	defer response.Body.Close()
	out := new(T)
	return out, json.NewDecoder(response.Body).Decode(out)
}

// SigningKey returns the public JSON Web Key by which certificates are verified.
func (c *Client) SigningKey(ctx context.Context) (json.RawMessage, error) {
	return c.Call(ctx, http.MethodGet, "/signing-key", nil)
}

// Save copies what an operation answers with, as it comes, to out.
func Save(out io.Writer, in io.ReadCloser, err error) error {
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, in.Close())
}

// Seen returns the tag of a version, by which a change says what it was made from.
func Seen(version int) string { return strconv.Quote(strconv.Itoa(version)) }

// EditIssue changes an issue as it is now.
func (c *Client) EditIssue(ctx context.Context, id int64, body IssueChanged) (*records.IssueShown, error) {
	issue, err := c.ShowIssue(ctx, id)
	if err != nil {
		return nil, err
	}
	return c.ChangeIssue(ctx, id, &ChangeIssueParams{IfMatch: Seen(issue.Version)}, body)
}

// Waive waives an issue as it is now.
func (c *Client) Waive(ctx context.Context, id int64, body Waived) (*records.IssueShown, error) {
	issue, err := c.ShowIssue(ctx, id)
	if err != nil {
		return nil, err
	}
	return c.WaiveIssue(ctx, id, &WaiveIssueParams{IfMatch: Seen(issue.Version)}, body)
}

// End closes an issue as it is now.
func (c *Client) End(ctx context.Context, id int64, body Closing) (*records.IssueShown, error) {
	issue, err := c.ShowIssue(ctx, id)
	if err != nil {
		return nil, err
	}
	return c.CloseIssue(ctx, id, &CloseIssueParams{IfMatch: Seen(issue.Version)}, body)
}

// Ease saves a rulebook that asks less than the version that it was made from, for a reason, and says what becomes of the open
// issues whose rules are gone.
func (c *Client) Ease(ctx context.Context, source []byte, version int, reason string, lost ...records.LostRule) (*records.Declaration, error) {
	return c.AddRulebook(ctx, &AddRulebookParams{IfMatch: Seen(version)}, SavingRulebookBody{Source: string(source), Reason: reason, Lost: lost})
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
	response, err := c.do(ctx, http.MethodGet, fmt.Sprintf("/jobs/%d/events", id), nil,
		http.Header{"Accept": {"text/event-stream"}})
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
	job, err := c.ShowJob(ctx, id)
	if err != nil {
		return nil, err
	}
	if job.State != "done" {
		return job, &JobFailed{*job}
	}
	return job, nil
}

// AuditOf waits until a table that a job made or that arrived has been audited, and returns the
// audit as the service shows it.
func (c *Client) AuditOf(ctx context.Context, table int64, progress func(records.Job)) (*json.RawMessage, error) {
	jobs, err := c.ListJobs(ctx, &ListJobsParams{Table: table})
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
		return c.ShowAudit(ctx, *done.AuditID)
	}
	return nil, fmt.Errorf("no audit of table %d was asked for", table)
}
