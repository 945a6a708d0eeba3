// Package messages tells people what happens while they do not look. Entries of the ledger
// and findings become events; what a recipient wants of them waits in the store until the
// other side took it.
//
// Up to where the ledger was read and what waits is written at once: a crash neither loses a
// message nor makes one twice. Sending is no act of the ledger, which would tell of itself
// without end: what came of it stands with the message. A side that is away is waited for,
// for three days; after that the message is given up, visibly, and can be sent again.
package messages

import (
	"context"
	"os"
	"sync"
	"time"

	"github.com/google/uuid"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/connect/tell"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/notice"
	"mossledger.example/moss/internal/records"
)

// Store is what this package needs of the store.
type Store interface {
	Told(ctx context.Context) (int64, error)
	EntriesFrom(ctx context.Context, from int64, most int) ([]ledger.Entry, error)
	UntoldFindings(ctx context.Context, most int) ([]records.UntoldFinding, error)
	LabelsOfAccounts(ctx context.Context, accounts []records.AccountID) ([]string, error)
	AccountsNamed(ctx context.Context, system, name string) ([]records.AccountID, error)
	AccountOfRotation(ctx context.Context, id records.RotationID) (records.AccountID, error)
	Queue(ctx context.Context, told int64, findings []records.UntoldFinding, list []records.Message, gather map[records.RecipientID]bool, room int) error
	Waiting(ctx context.Context, id records.RecipientID, most int) ([]records.Message, error)
	SetMessage(ctx context.Context, v records.Message) error
	GiveUpOldest(ctx context.Context, id records.RecipientID, most int, words string) (int64, error)
	RetryMessages(ctx context.Context, id records.RecipientID, entries ...ledger.Entry) (int64, error)
	ForgetMessages(ctx context.Context, sent, givenUp time.Time) error
	AllRecipients(ctx context.Context) ([]records.Recipient, error)
	Recipient(ctx context.Context, name string) (records.Recipient, error)
	SaveRecipient(ctx context.Context, v records.Recipient, entries ...ledger.Entry) error
	RemoveRecipient(ctx context.Context, v records.Recipient, entries ...ledger.Entry) error
	SetFindings(ctx context.Context, scope string, list []records.Finding) error
}

// Sender sends one message, as tell.Send does.
type Sender func(ctx context.Context, to tell.Place, m tell.Message) (said string, err error)

// Messages tells people. Safe for concurrent use.
type Messages struct {
	base  *app.Base
	store Store
	send  Sender
	host  string
	kick  chan struct{}
	turn  sync.Mutex // one reads what is new at a time
	lock  sync.Mutex
	busy  map[records.RecipientID]bool
	ready chan struct{} // so many are sent to at the same time
	most  int           // messages of a recipient that wait
}

// New makes one that nothing runs of yet.
func New(base *app.Base, store Store, send Sender) *Messages {
	host, _ := os.Hostname()
	return &Messages{base: base, store: store, send: send, host: host, kick: make(chan struct{}, 1), busy: map[records.RecipientID]bool{}, ready: make(chan struct{}, together), most: mostWaiting}
}

// tooMany is why messages are given up that could be sent still.
const tooMany = "too many waited: the oldest were given up"

const (
	look        = 3 * time.Second // how often it is looked for what is new
	together    = 8               // recipients that are sent to at the same time
	readAtOnce  = 500             // entries, and findings
	mostEvents  = 100             // of a message
	mostWaiting = 2000            // messages of a recipient
	gathering   = time.Minute     // of mail, since the first event
	keepSent    = 30 * 24 * time.Hour
	keepGivenUp = 90 * 24 * time.Hour
)

// Start tells people from now on, until the end of all work.
func (messages *Messages) Start() {
	if !messages.base.Begin() {
		return
	}
	go func() {
		defer messages.base.Work.Done()
		ctx := messages.base.Context
		for ctx.Err() == nil {
			if err := messages.Look(ctx); err != nil && ctx.Err() == nil {
				messages.base.Log.Warn("people cannot be told", "error", err)
			}
			wait, cancel := context.WithTimeout(ctx, look)
			select {
			case <-wait.Done():
			case <-messages.kick:
			}
			cancel()
		}
	}()
}

// Kick has it look now.
func (messages *Messages) Kick() {
	select {
	case messages.kick <- struct{}{}:
	default:
	}
}

// Look reads what is new, and has sent what is due; it does not wait for that.
func (messages *Messages) Look(ctx context.Context) error {
	recipients, err := messages.gather(ctx)
	if err != nil {
		return err
	}
	for _, r := range recipients {
		if !r.Paused && r.Waiting > 0 {
			messages.begin(r)
		}
	}
	return nil
}

// Forget removes what was sent or given up long ago.
func (messages *Messages) Forget(ctx context.Context) (string, error) {
	now := messages.base.Now()
	return "", messages.store.ForgetMessages(ctx, now.Add(-keepSent), now.Add(-keepGivenUp))
}

// gather makes messages of what is new, and returns the recipients after that.
func (messages *Messages) gather(ctx context.Context) ([]records.Recipient, error) {
	messages.turn.Lock()
	defer messages.turn.Unlock()
	recipients, err := messages.store.AllRecipients(ctx)
	if err != nil {
		return nil, err
	}
	told, err := messages.store.Told(ctx)
	if err != nil {
		return nil, err
	}
	queued := false
	for {
		entries, err := messages.store.EntriesFrom(ctx, told, readAtOnce)
		if err != nil {
			return nil, err
		}
		findings, err := messages.store.UntoldFindings(ctx, readAtOnce)
		if err != nil {
			return nil, err
		}
		if len(entries) == 0 && len(findings) == 0 {
			break
		}
		if len(entries) > 0 {
			told = entries[len(entries)-1].Index + 1
		}
		list, err := messages.made(ctx, recipients, entries, findings)
		if err != nil {
			return nil, err
		}
		gather := map[records.RecipientID]bool{}
		for _, r := range recipients {
			gather[r.ID] = r.Kind == tell.Mail
		}
		if err := messages.store.Queue(ctx, told, findings, list, gather, mostEvents); err != nil {
			return nil, err
		}
		queued = queued || len(list) > 0
		if len(entries) < readAtOnce && len(findings) < readAtOnce {
			break
		}
	}
	if !queued {
		return recipients, nil
	}
	for _, r := range recipients {
		n, err := messages.store.GiveUpOldest(ctx, r.ID, messages.most, tooMany)
		if err != nil {
			return nil, err
		}
		if n > 0 {
			messages.base.Log.Warn("messages were given up", "recipient", r.Name, "number", n, "why", tooMany)
			if err := messages.tellTrouble(ctx, r, records.Message{State: records.MessageGivenUp, Words: tooMany}); err != nil {
				return nil, err
			}
		}
	}
	messages.base.Topics.Wake("all")
	return messages.store.AllRecipients(ctx)
}

// made are the messages that entries and findings make for recipients.
func (messages *Messages) made(ctx context.Context, recipients []records.Recipient, entries []ledger.Entry, findings []records.UntoldFinding) ([]records.Message, error) {
	labelled := false
	for _, r := range recipients {
		labelled = labelled || len(r.Labels) > 0
	}
	type about struct {
		notice.Event
		labels []string
	}
	var events []about
	for _, e := range entries {
		event, is := notice.OfEntry(e)
		if !is || event.Time.IsZero() {
			continue
		}
		a := about{Event: event}
		if labelled {
			accounts, err := messages.accountsOf(ctx, e)
			if err != nil {
				return nil, err
			}
			if a.labels, err = messages.store.LabelsOfAccounts(ctx, accounts); err != nil {
				return nil, err
			}
		}
		events = append(events, a)
	}
	for _, f := range findings {
		moment := f.Raised
		if f.Over {
			moment = f.Cleared
		}
		a := about{Event: notice.OfFinding(notice.Event{Time: moment, Subject: f.Subject, System: f.System, Detail: f.What, Next: f.Next, Finding: int64(f.ID), Kind: f.Kind}, f.Severity, f.Over)}
		if labelled && f.AccountID != 0 {
			var err error
			if a.labels, err = messages.store.LabelsOfAccounts(ctx, []records.AccountID{f.AccountID}); err != nil {
				return nil, err
			}
		}
		events = append(events, a)
	}
	now := messages.base.Now().UTC()
	var out []records.Message
	for _, r := range recipients {
		if r.Paused {
			continue
		}
		wants := notice.Wants{Events: r.Events, Least: r.Least, Labels: r.Labels}
		var own []notice.Event
		for _, e := range events {
			if !e.Time.Before(r.Since) && wants.Fits(e.Event, e.labels) {
				own = append(own, e.Event)
			}
		}
		due := now
		if r.Kind == tell.Mail {
			due = now.Add(gathering)
		}
		for len(own) > 0 {
			part := own[:min(len(own), mostEvents)]
			own = own[len(part):]
			mark, err := uuid.NewRandomFromReader(messages.base.Random)
			if err != nil {
				return nil, err
			}
			out = append(out, records.Message{RecipientID: r.ID, Mark: mark.String(), Events: part, Made: now, Due: due})
		}
	}
	return out, nil
}

// accountsOf are the accounts that an entry is about.
func (messages *Messages) accountsOf(ctx context.Context, e ledger.Entry) ([]records.AccountID, error) {
	if id, is := app.RotationOf(e.Ref); is {
		account, err := messages.store.AccountOfRotation(ctx, id)
		return []records.AccountID{account}, err
	}
	if e.Subject == "" || e.System == "" {
		return nil, nil
	}
	return messages.store.AccountsNamed(ctx, e.System, e.Subject)
}
