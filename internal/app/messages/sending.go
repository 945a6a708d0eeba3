package messages

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
	"time"

	"mossledger.example/moss/internal/connect/tell"
	"mossledger.example/moss/internal/core/notice"
	"mossledger.example/moss/internal/records"
)

// begin sends to a recipient what is due, unless somebody does already.
func (messages *Messages) begin(r records.Recipient) {
	messages.lock.Lock()
	defer messages.lock.Unlock()
	if messages.busy[r.ID] || !messages.base.Begin() {
		return
	}
	messages.busy[r.ID] = true
	go func() {
		defer messages.base.Work.Done()
		defer func() {
			messages.lock.Lock()
			defer messages.lock.Unlock()
			delete(messages.busy, r.ID)
		}()
		ctx := messages.base.Context
		select {
		case messages.ready <- struct{}{}:
			defer func() { <-messages.ready }()
		case <-ctx.Done():
			return
		}
		if err := messages.deliver(ctx, r); err != nil && ctx.Err() == nil {
			messages.base.Log.Warn("what became of messages cannot be written", "recipient", r.Name, "error", err)
		}
	}()
}

// mostWords of what the other side says are kept.
const mostWords = 500

// atOnce messages are sent to a recipient before it is looked whether it was changed.
const atOnce = 20

// deliver sends what is due, in the order in which it happened. What cannot be sent holds up
// what comes after it: it is the same way.
func (messages *Messages) deliver(ctx context.Context, r records.Recipient) error {
	list, err := messages.store.Waiting(ctx, r.ID, atOnce)
	if err != nil {
		return err
	}
	sent, tried := false, false
	for _, m := range list {
		if m.Due.After(messages.base.Now()) {
			break
		}
		tried = true
		said, sendErr := messages.sendOne(ctx, r, m)
		if sendErr != nil && ctx.Err() != nil {
			return ctx.Err() // an interruption is no attempt
		}
		m = judged(m, said, sendErr, messages.base.Now().UTC())
		m.Words = notice.Line(messages.base.Redact(ctx, m.Words), mostWords)
		if err := messages.store.SetMessage(context.WithoutCancel(ctx), m); err != nil {
			return err
		}
		sent = sent || m.State == records.MessageSent
		if m.State != records.MessageSent {
			if err := messages.tellTrouble(ctx, r, m); err != nil {
				return err
			}
			if m.State == records.MessageWaiting {
				break
			}
		}
	}
	if tried {
		messages.base.Topics.Wake("all")
	}
	if !sent {
		return nil
	}
	messages.Kick() // there may be more
	return messages.store.SetFindings(ctx, troubleKey(r), nil)
}

// Patience is how long a recipient that is away is waited for, and mostRefused how often one
// that refuses is asked.
const (
	Patience    = 72 * time.Hour
	mostRefused = 5
)

// pauses are after how long it is tried again; the last one from then on.
var pauses = []time.Duration{10 * time.Second, 30 * time.Second, 2 * time.Minute, 10 * time.Minute, 30 * time.Minute, time.Hour}

// judged is a message after an attempt.
func judged(m records.Message, said string, err error, now time.Time) records.Message {
	m.Attempts++
	m.Tried = now
	if err == nil {
		m.State, m.Words = records.MessageSent, said
		return m
	}
	m.Words = err.Error()
	var refused *tell.Refusal
	m.Due = now.Add(pauses[min(m.Attempts, len(pauses))-1])
	if errors.As(err, &refused) && m.Attempts >= mostRefused || now.Sub(m.Made) >= Patience {
		m.State = records.MessageGivenUp
	}
	return m
}

func troubleKey(r records.Recipient) string { return fmt.Sprintf("recipient/%d/", r.ID) }

// silentAfter is how many attempts make a finding.
const silentAfter = 3

// tellTrouble raises a finding about a recipient that cannot be told: others are told of it.
func (messages *Messages) tellTrouble(ctx context.Context, r records.Recipient, m records.Message) error {
	if m.State == records.MessageWaiting && m.Attempts < silentAfter {
		return nil
	}
	what := fmt.Sprintf("it could not be told for %d attempts, since %s: %s", m.Attempts, m.Made.UTC().Format(time.RFC3339), m.Words)
	if m.State == records.MessageGivenUp {
		what = "messages to it were given up: " + m.Words
	}
	return messages.store.SetFindings(ctx, troubleKey(r), []records.Finding{{
		Key: troubleKey(r) + "silent", Kind: "recipient-silent", Severity: "medium", Subject: r.Name, What: what,
		Next: fmt.Sprintf("mend it, then 'moss notify test %s'; 'moss notify retry %s' sends again what was given up", r.Name, r.Name),
	}})
}

// Binding is what the secret of a recipient is sealed for: what proves the other side, and
// who signs in there. It goes nowhere else.
func Binding(v records.Recipient) string {
	return fmt.Sprintf("recipient/%s/%s/%s/%s", v.Kind, v.Address, v.User, digestOf(v.TrustedCA))
}

// digestOf stands for certificates, however they are spaced.
func digestOf(pem string) string {
	sum := sha256.Sum256([]byte(strings.TrimSpace(pem)))
	return hex.EncodeToString(sum[:])
}

func (messages *Messages) place(r records.Recipient) (tell.Place, error) {
	value, err := messages.base.Open(Binding(r), r.Sealed)
	if err != nil {
		return tell.Place{}, fmt.Errorf("the secret of %s was not sealed for %s: give it again ('moss notify change %s --secret-file')", r.Name, r.Address, r.Name)
	}
	return tell.Place{Name: r.Name, Kind: r.Kind, Address: r.Address, TrustedCA: r.TrustedCA, Secret: value, User: r.User, From: r.From, To: r.To}, nil
}

func (messages *Messages) sendOne(ctx context.Context, r records.Recipient, m records.Message) (string, error) {
	place, err := messages.place(r)
	if err != nil {
		return "", &tell.Refusal{Words: err.Error()}
	}
	return messages.send(ctx, place, tell.Message{ID: m.Mark, Made: m.Made, Sent: messages.base.Now(), Host: messages.host, Events: m.Events})
}
