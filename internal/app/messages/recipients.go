package messages

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/connect/tell"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/notice"
	"mossledger.example/moss/internal/core/rules"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
)

// leastSecret is how long what messages are signed with is at least, in bytes.
const leastSecret = 16

// Save keeps a recipient: a new one when it has no revision. given is its secret; an empty
// one keeps what there is, as long as it goes where it went.
func (messages *Messages) Save(ctx context.Context, by access.Actor, v records.Recipient, given secret.Value) (records.Recipient, error) {
	if err := access.Decide(by, access.SaveRecipient, access.Object{Kind: "recipient", Name: v.Name}); err != nil {
		return v, err
	}
	if err := check(&v); err != nil {
		return v, err
	}
	var was records.Recipient
	v.ID, v.Sealed, v.Since = 0, nil, messages.base.Now().UTC()
	if v.Revision != 0 {
		var err error
		if was, err = messages.store.Recipient(ctx, v.Name); err != nil {
			return v, err
		}
		v.ID, v.Name, v.Sealed = was.ID, was.Name, was.Sealed
		if !was.Paused {
			v.Since = was.Since
		}
	}
	if err := messages.seal(&v, was, given); err != nil {
		return v, err
	}
	v.ChangedBy = by.Name
	changes := diff(was, v, !given.Empty())
	entry := ledger.Entry{Actor: by.Name, Act: "recipient.save", Phase: ledger.Outcome, Subject: v.Name, Result: "done", Changes: changes}
	if v.Paused && !was.Paused && was.ID != 0 {
		entry.Detail = messages.last(ctx, was, by, "is paused: it is told nothing until it goes on")
	}
	if err := messages.store.SaveRecipient(ctx, v, entry); err != nil {
		return v, err
	}
	messages.base.Topics.Wake("all")
	if v.Paused { // that it hears nothing is meant
		if err := messages.store.SetFindings(ctx, troubleKey(v), nil); err != nil {
			return v, err
		}
	}
	return messages.store.Recipient(ctx, v.Name)
}

// seal seals the secret that was given for where it goes, or finds that the one that is
// there still goes there. Law 11.
func (messages *Messages) seal(v *records.Recipient, was records.Recipient, given secret.Value) (err error) {
	needs := v.Kind == tell.Webhook || v.Kind == tell.Mail && v.User != ""
	switch {
	case !needs && !given.Empty():
		return fmt.Errorf("%w: a recipient of the kind %s without a user takes no secret", app.ErrInput, v.Kind)
	case !needs:
		v.Sealed = nil
		return nil
	case v.Kind == tell.Webhook && !given.Empty() && len(given.Reveal()) < leastSecret:
		return fmt.Errorf("%w: what messages are signed with has at least %d bytes", app.ErrInput, leastSecret)
	case !given.Empty():
		v.Sealed, err = messages.base.Seal(Binding(*v), given)
		return err
	case len(v.Sealed) == 0:
		return fmt.Errorf("%w: give the secret: what messages to a webhook are signed with, or the password of the mail server's user", app.ErrInput)
	case Binding(*v) != Binding(was):
		return fmt.Errorf("%w: its secret was given for %s and goes nowhere else: give it again with what is changed", app.ErrInput, was.Address)
	}
	return nil
}

// check refuses what cannot work, and puts the rest into order.
func check(v *records.Recipient) error {
	if err := app.CheckName("a recipient", v.Name); err != nil {
		return err
	}
	wrong := func(err error) error { return fmt.Errorf("%w: %w", app.ErrInput, err) }
	var err error
	switch v.Kind {
	case tell.Webhook:
		err = tell.CheckWebhook(v.Address)
	case tell.Syslog:
		err = tell.CheckPort(v.Address, "logs.larkmoor.example:6514")
	case tell.Mail:
		err = checkMail(v)
	default:
		err = fmt.Errorf("a recipient is one of %s, not %q", strings.Join(tell.Kinds(), ", "), v.Kind)
	}
	if err != nil {
		return wrong(err)
	}
	if v.Kind != tell.Mail && (v.User != "" || v.From != "" || len(v.To) > 0) {
		return wrong(fmt.Errorf("a user and addresses of people are for mail, not for a %s", v.Kind))
	}
	if v.TrustedCA != "" {
		if err := tell.CheckAuthority(v.TrustedCA); err != nil {
			return wrong(err)
		}
	}
	if v.Least == "" {
		v.Least = notice.Warning
	}
	if _, err := notice.SeverityOf(string(v.Least)); err != nil {
		return wrong(err)
	}
	for _, pattern := range v.Events {
		if err := notice.CheckPattern(pattern); err != nil {
			return wrong(err)
		}
	}
	for _, label := range v.Labels {
		if err := rules.CheckLabel(label); err != nil {
			return wrong(err)
		}
	}
	for _, list := range []*[]string{&v.Events, &v.Labels, &v.To} {
		slices.Sort(*list)
		*list = slices.Compact(*list)
	}
	return nil
}

func checkMail(v *records.Recipient) error {
	if err := tell.CheckPort(v.Address, "mail.larkmoor.example:587"); err != nil {
		return err
	}
	if err := tell.CheckMailAddress(v.From); err != nil {
		return fmt.Errorf("whom it is from: %w", err)
	}
	if len(v.To) == 0 {
		return fmt.Errorf("say to whom: one mail address at least")
	}
	for _, to := range v.To {
		if err := tell.CheckMailAddress(to); err != nil {
			return err
		}
	}
	return nil
}

func diff(was, is records.Recipient, given bool) []ledger.Change {
	list := func(texts []string) string { return strings.Join(texts, ", ") }
	changes := ledger.Diff(
		[3]string{"kind", was.Kind, is.Kind}, [3]string{"address", was.Address, is.Address}, [3]string{"user", was.User, is.User}, [3]string{"from", was.From, is.From}, [3]string{"to", list(was.To), list(is.To)},
		[3]string{"trusted_ca", mark(was.TrustedCA), mark(is.TrustedCA)}, [3]string{"events", list(was.Events), list(is.Events)}, [3]string{"least", string(was.Least), string(is.Least)}, [3]string{"labels", list(was.Labels), list(is.Labels)},
		[3]string{"paused", fmt.Sprint(was.Paused), fmt.Sprint(is.Paused)}, [3]string{"description", was.Description, is.Description},
	)
	if given {
		changes = append(changes, ledger.Change{Field: "secret", From: "", To: "given"})
	}
	return changes
}

// mark stands for a text that is too long to be shown.
func mark(text string) string {
	if text == "" {
		return ""
	}
	return "sha256:" + digestOf(text)[:16]
}

// Remove removes the one that was seen. It is told so first, if it can be: nobody is cut off
// from what happens without a word.
func (messages *Messages) Remove(ctx context.Context, by access.Actor, name string, revision int64) error {
	if err := access.Decide(by, access.RemoveRecipient, access.Object{Kind: "recipient", Name: name}); err != nil {
		return err
	}
	was, err := messages.store.Recipient(ctx, name)
	if err != nil {
		return err
	}
	if revision != was.Revision {
		return fmt.Errorf("recipient %q: %w", name, records.ErrStale)
	}
	words := ""
	if !was.Paused {
		words = messages.last(ctx, was, by, "was removed: it is told nothing more")
	}
	if err := messages.store.RemoveRecipient(ctx, was, ledger.Entry{Actor: by.Name, Act: "recipient.remove", Phase: ledger.Outcome, Subject: was.Name, Result: "done", Detail: words, Changes: diff(was, records.Recipient{}, false)}); err != nil {
		return err
	}
	messages.base.Topics.Wake("all")
	return messages.store.SetFindings(ctx, troubleKey(was), nil)
}

// lastDeadline is how long somebody who removes a recipient waits for it.
const lastDeadline = 10 * time.Second

type quietly struct{}

// Quietly is a context in which recipients that are told nothing more are not told of that:
// who does so tells them afterwards, with Last.
func Quietly(ctx context.Context) context.Context { return context.WithValue(ctx, quietly{}, true) }

// Last tells a recipient that it is told nothing more, and returns what came of that.
func (messages *Messages) Last(ctx context.Context, r records.Recipient, by access.Actor, words string) string {
	return messages.last(ctx, r, by, words)
}

// last tells a recipient that it is told nothing more, and returns what came of that.
func (messages *Messages) last(ctx context.Context, r records.Recipient, by access.Actor, words string) string {
	if ctx.Value(quietly{}) != nil {
		return "it is told of that afterwards"
	}
	ctx, cancel := context.WithTimeout(ctx, lastDeadline)
	defer cancel()
	now := messages.base.Now().UTC()
	said, err := messages.sendEvent(ctx, r, notice.Event{Event: "recipient.save", Severity: notice.Warning, Time: now, Subject: r.Name, By: by.Name, Text: fmt.Sprintf("The recipient %s %s (%s)", r.Name, words, by.Name)})
	if err != nil {
		return "it could not be told of that: " + messages.base.Redact(ctx, err.Error())
	}
	return "it was told of that: " + said
}

// Test sends a message now, and returns what the other side said.
func (messages *Messages) Test(ctx context.Context, by access.Actor, name string) (said string, err error) {
	if err := access.Decide(by, access.TestRecipient, access.Object{Kind: "recipient", Name: name}); err != nil {
		return "", err
	}
	r, err := messages.store.Recipient(ctx, name)
	if err != nil {
		return "", err
	}
	err = messages.base.Act(ctx, ledger.Entry{Actor: by.Name, Act: "recipient.test", Subject: r.Name}, func() error {
		said, err = messages.sendEvent(ctx, r, notice.Event{
			Event: notice.Test, Severity: notice.Notice, Time: messages.base.Now().UTC(), Subject: r.Name, By: by.Name,
			Text: fmt.Sprintf("This is a test of the recipient %s, asked for by %s", r.Name, by.Name), Next: "nothing: it shows that messages arrive",
		})
		return err
	})
	if err != nil {
		return "", fmt.Errorf("%w: %s", app.ErrRefused, messages.base.Redact(ctx, err.Error()))
	}
	return messages.base.Redact(ctx, said), nil
}

func (messages *Messages) sendEvent(ctx context.Context, r records.Recipient, e notice.Event) (string, error) {
	mark, err := uuid.NewRandomFromReader(messages.base.Random)
	if err != nil {
		return "", err
	}
	return messages.sendOne(ctx, r, records.Message{Mark: mark.String(), Made: e.Time, Events: []notice.Event{e.Clean()}})
}

// Retry has what was given up for a recipient sent again, and returns how many messages.
func (messages *Messages) Retry(ctx context.Context, by access.Actor, name string) (int64, error) {
	if err := access.Decide(by, access.RetryMessages, access.Object{Kind: "recipient", Name: name}); err != nil {
		return 0, err
	}
	r, err := messages.store.Recipient(ctx, name)
	if err != nil {
		return 0, err
	}
	n, err := messages.store.RetryMessages(ctx, r.ID, ledger.Entry{Actor: by.Name, Act: "message.retry", Phase: ledger.Outcome, Subject: r.Name, Result: "done"})
	messages.Kick()
	return n, err
}
