package connect

import (
	"context"
	"regexp"
	"strings"
	"time"

	"mossledger.example/moss/internal/core/secret"
)

// Operation is one command, query or request that was sent to a system, as it was sent, with
// secrets left out; and what came of it.
type Operation struct {
	At      time.Time     `json:"at"`
	By      string        `json:"by"` // protocol: ssh, ldap, sql, redis, ws-management
	Text    string        `json:"text"`
	Took    time.Duration `json:"took"`
	Outcome string        `json:"outcome"`        // of OperationOutcomes
	Exit    int           `json:"exit,omitempty"` // exit code or the protocol's own number, where it has one
	Words   string        `json:"words,omitempty"`
}

// Outcomes of an Operation.
const (
	OperationDone    = "done"
	OperationRefused = "refused" // the system says that it may not
	OperationFailed  = "failed"
)

// OperationOutcomes lists them.
func OperationOutcomes() []string {
	return []string{OperationDone, OperationRefused, OperationFailed}
}

// Tracer takes operations, where somebody wants to see them. It is asked from many
// goroutines, and returns at once.
type Tracer interface {
	Active() bool
	Take(Operation)
}

type tracerKey struct{}

// Trace tells what is sent to whoever wants to see it. The zero Trace tells nobody.
type Trace struct{ tracer Tracer }

// WithTracer is a context whose calls are told to a tracer.
func WithTracer(ctx context.Context, tracer Tracer) context.Context {
	return context.WithValue(ctx, tracerKey{}, tracer)
}

// TraceOf is the one that a call came with.
func TraceOf(ctx context.Context) Trace {
	tracer, _ := ctx.Value(tracerKey{}).(Tracer)
	return Trace{tracer}
}

// On reports whether somebody wants to see what is sent.
func (t Trace) On() bool { return t.tracer != nil && t.tracer.Active() }

// Tell tells an operation. What in it looks like a secret is left out, whatever it is.
func (t Trace) Tell(o Operation, hide ...secret.Value) {
	if !t.On() {
		return
	}
	o.Text, o.Words = withoutSecrets(secret.Scrub(o.Text, hide...)), withoutSecrets(secret.Scrub(o.Words, hide...))
	t.tracer.Take(o)
}

// Ended makes an operation of what was sent, when it began, and its error.
func Ended(by, text string, begun time.Time, err error, refused func(error) bool) Operation {
	o := Operation{At: begun, By: by, Text: text, Took: time.Since(begun), Outcome: OperationDone}
	if err != nil {
		o.Outcome, o.Words = OperationFailed, err.Error()
		if refused != nil && refused(err) {
			o.Outcome = OperationRefused
		}
	}
	return o
}

// shapes are those of values that stand for passwords: verifiers and hashes that statements
// carry, and elements and attributes whose names say secret.
var shapes = []*regexp.Regexp{
	regexp.MustCompile(`SCRAM-SHA-256\$[^'"\s]+`),
	regexp.MustCompile(`\bmd5[0-9a-f]{32}\b`),
	regexp.MustCompile(`\*[0-9A-F]{40}\b`),
	regexp.MustCompile(`\$(?:1|2[aby]|5|6|7|y|gy)\$[./A-Za-z0-9$]{8,}`),
	regexp.MustCompile(`(?i)(<(?:\w+:)?\w*passw(?:or)?d\w*>)[^<]+`),
	regexp.MustCompile(`(?i)(\b(?:identified by|password)\s+')(?:[^']|'')+(')`),
}

// Left is what stands in the place of a secret.
const Left = "[secret]"

func withoutSecrets(text string) string {
	for _, shape := range shapes {
		text = shape.ReplaceAllStringFunc(text, func(found string) string {
			if parts := shape.FindStringSubmatch(found); len(parts) > 1 {
				return parts[1] + Left + strings.Join(parts[2:], "")
			}
			return Left
		})
	}
	return text
}
