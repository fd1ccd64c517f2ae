package telling

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"

	"proudsieve/service/access"
	"proudsieve/service/records"
)

// Event is a notice in the form of CloudEvents 1.0, in its structured mode for JSON.
type Event struct {
	SpecVersion     string    `json:"specversion"`
	ID              string    `json:"id"` // the same whenever and to whomever it is sent
	Source          string    `json:"source"`
	Type            string    `json:"type"`
	Subject         string    `json:"subject"` // the path of the page that shows it
	Time            time.Time `json:"time"`
	DataContentType string    `json:"datacontenttype"`
	Data            EventData `json:"data"`
}

// EventData is what happened.
type EventData struct {
	Dataset string          `json:"dataset"`
	Says    string          `json:"says"`
	By      string          `json:"by,omitempty"`
	Link    string          `json:"link"`
	Facts   json.RawMessage `json:"facts"`
}

// EventType is the media type of an event.
const EventType = "application/cloudevents+json"

// The headers of a message to a receiver, as the Standard Webhooks specification has them.
const (
	IDHeader, TimeHeader, SignatureHeader = "Webhook-Id", "Webhook-Timestamp", "Webhook-Signature"

	secretPrefix = "whsec_"
	answerMost   = 1 << 10 // bytes of an answer that are looked at
)

func (t *Teller) event(n *records.Notice) ([]byte, error) {
	return json.Marshal(Event{SpecVersion: "1.0", ID: n.Event, Source: t.link("/"), Type: kinds[n.Kind].event, Subject: n.Path, Time: n.At.UTC(),
		DataContentType: "application/json", Data: EventData{Dataset: n.Dataset, Says: n.Says, By: n.By, Link: t.link(n.Path), Facts: n.Facts}})
}

// Secret is what a receiver knows the service by: HMAC-SHA256 (RFC 2104) of the receiver and its serial, with a secret of the
// service, so that none is kept.
func Secret(service []byte, receiver int64, serial int) string {
	h := hmac.New(sha256.New, service)
	fmt.Fprintf(h, "a receiver of notices\x00%d %d", receiver, serial)
	return secretPrefix + base64.StdEncoding.EncodeToString(h.Sum(nil))
}

// Sign signs a message: HMAC-SHA256 of its id, the time in seconds since 1970 and the body, with points between.
func Sign(secret, id, at string, body []byte) (string, error) {
	key, err := base64.StdEncoding.DecodeString(strings.TrimPrefix(secret, secretPrefix))
	if err != nil {
		return "", fmt.Errorf("the secret is none: %w", err)
	}
	h := hmac.New(sha256.New, key)
	fmt.Fprintf(h, "%s.%s.", id, at)
	h.Write(body)
	return "v1," + base64.StdEncoding.EncodeToString(h.Sum(nil)), nil
}

// ErrSignature says that a message does not come from who has the secret, or is an old one.
var ErrSignature = errors.New("the signature does not fit")

// oldest is how old a message may be that is taken for a new one.
const oldest = 5 * time.Minute

// Verify holds a message against its signatures, as a receiver does.
func Verify(secret string, header http.Header, body []byte, now time.Time) error {
	seconds, err := strconv.ParseInt(header.Get(TimeHeader), 10, 64)
	if err != nil || now.Sub(time.Unix(seconds, 0)).Abs() > oldest {
		return ErrSignature
	}
	want, err := Sign(secret, header.Get(IDHeader), header.Get(TimeHeader), body)
	if err != nil {
		return err
	}
	for _, one := range strings.Fields(header.Get(SignatureHeader)) {
		if hmac.Equal([]byte(one), []byte(want)) {
			return nil
		}
	}
	return ErrSignature
}

// Try sends a receiver an event that says nothing.
func (t *Teller) Try(ctx context.Context, address, secret string) error {
	id, err := access.NewSecret("trial-")
	if err != nil {
		return err
	}
	return t.Post(ctx, &records.Notice{Event: id, Kind: trial, Says: "This is a trial.", Path: "/notices", Facts: json.RawMessage("{}"), At: time.Now()}, address, secret)
}

// Post sends a notice to a receiver.
func (t *Teller) Post(ctx context.Context, n *records.Notice, address, secret string) error {
	body, err := t.event(n)
	if err != nil {
		return err
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, address, bytes.NewReader(body))
	if err != nil {
		return err
	}
	at := strconv.FormatInt(time.Now().Unix(), 10)
	signature, err := Sign(secret, n.Event, at, body)
	if err != nil {
		return err
	}
	for name, value := range map[string]string{"Content-Type": EventType, "User-Agent": "proudsieve", IDHeader: n.Event, TimeHeader: at, SignatureHeader: signature} {
		request.Header.Set(name, value)
	}
	response, err := t.HTTP.Do(request)
	if err != nil {
		return fmt.Errorf("%s could not be reached: %w", address, err)
	}
	defer response.Body.Close()
	said, _ := io.ReadAll(io.LimitReader(response.Body, answerMost))
	switch {
	case response.StatusCode >= 200 && response.StatusCode < 300:
		return nil
	case response.StatusCode == http.StatusGone:
		return &PermanentError{fmt.Errorf("%s says that it is gone", address)}
	}
	return fmt.Errorf("%s answered %s: %s", address, response.Status, strings.ToValidUTF8(strings.TrimSpace(string(said)), "�"))
}
