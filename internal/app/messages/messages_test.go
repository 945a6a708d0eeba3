package messages

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/connect/tell"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/store"
)

var ines = access.Actor{Name: "ines", Roles: access.Roles()}

// post is a real store and a made-up other side.
type post struct {
	*Messages
	*store.Store
	t      *testing.T
	folder string
	now    time.Time
	lock   sync.Mutex
	away   map[string]error // what recipients answer
	got    map[string][]tell.Message
	keys   map[string]string // the secret that went there last
	tried  int
	during func(to tell.Place)
}

func newPost(t *testing.T) *post {
	p := &post{t: t, folder: t.TempDir(), now: time.Date(2026, 11, 28, 22, 0, 0, 0, time.UTC), away: map[string]error{}, got: map[string][]tell.Message{}, keys: map[string]string{}}
	p.start()
	p.tick() // from now on
	return p
}

// start opens what is in the folder, as the service does when it begins.
func (p *post) start() {
	clock := func() time.Time { return p.now }
	s, err := store.Open(p.t.Context(), p.folder, clock)
	require.NoError(p.t, err)
	base, err := app.NewBase(app.Settings{Store: s, Master: make([]byte, secret.KeySize), Random: rand.Reader, Now: clock, Log: slog.New(slog.DiscardHandler)})
	require.NoError(p.t, err)
	require.NoError(p.t, s.OpenLedger(p.t.Context(), base.Sealer, s.FolderWitness()))
	p.Store, p.Messages = s, New(base, s, p.take)
	p.t.Cleanup(p.stop)
}

func (p *post) stop() {
	if p.Store != nil {
		p.base.Stop()
		require.NoError(p.t, p.Close())
		p.Store = nil
	}
}

func (p *post) take(_ context.Context, to tell.Place, m tell.Message) (string, error) {
	p.lock.Lock()
	defer p.lock.Unlock()
	p.tried++
	if p.during != nil {
		p.during(to)
	}
	if err := p.away[to.Name]; err != nil {
		return "", err
	}
	p.got[to.Name] = append(p.got[to.Name], m)
	p.keys[to.Name] = to.Secret.RevealString()
	return "taken", nil
}

// tick does what the service does every few seconds, and waits for it.
func (p *post) tick() {
	p.t.Helper()
	list, err := p.gather(p.t.Context())
	require.NoError(p.t, err)
	for _, r := range list {
		if !r.Paused && r.Waiting > 0 {
			require.NoError(p.t, p.deliver(p.t.Context(), r))
		}
	}
}

// heard are the events that a recipient got, in their order.
func (p *post) heard(name string) (out []string) {
	for _, m := range p.got[name] {
		for _, e := range m.Events {
			out = append(out, e.Event+" "+e.Subject)
		}
	}
	return out
}

func (p *post) add(v records.Recipient) records.Recipient {
	p.t.Helper()
	if v.Kind == "" {
		v.Kind, v.Address = tell.Webhook, "https://"+v.Name+".larkmoor.example/"
	}
	given := secret.Value{}
	if v.Kind == tell.Webhook {
		given = secret.New("the-key-of-" + v.Name + "-is-long")
	}
	v, err := p.Messages.Save(p.t.Context(), ines, v, given)
	require.NoError(p.t, err)
	return v
}

func (p *post) happens(act, subject string, more ...ledger.Entry) {
	p.t.Helper()
	e := ledger.Entry{Phase: ledger.Outcome, Result: "done", Actor: "ines"}
	if len(more) > 0 {
		e = more[0]
	}
	e.Act, e.Subject = act, subject
	require.NoError(p.t, p.Record(p.t.Context(), e))
}

func TestWhoIsToldWhat(t *testing.T) {
	p := newPost(t)
	p.happens("service.freeze", "before anybody was there")
	p.tick()
	p.now = p.now.Add(time.Minute)
	all := p.add(records.Recipient{Name: "all", RecipientSettings: records.RecipientSettings{Least: "informational"}})
	p.add(records.Recipient{Name: "grave"})
	p.add(records.Recipient{Name: "rotations", RecipientSettings: records.RecipientSettings{Least: "informational", Events: []string{"rotation.*"}}})
	p.tick()
	p.got = map[string][]tell.Message{}
	p.happens("rotation.replace", "/etc/tides.env")
	p.happens("service.thaw", "everything")
	p.happens("rotation.finished", "svc-berth", ledger.Entry{Phase: ledger.Outcome, Result: "undone"})
	p.happens("rotation.change", "svc-berth", ledger.Entry{Phase: ledger.Intent})
	p.tick()
	assert.Equal(t, []string{"rotation.replace /etc/tides.env", "service.thaw everything", "rotation.finished svc-berth"}, p.heard("all"))
	assert.Equal(t, []string{"service.thaw everything", "rotation.finished svc-berth"}, p.heard("grave"))
	assert.Equal(t, []string{"rotation.replace /etc/tides.env", "rotation.finished svc-berth"}, p.heard("rotations"))
	assert.Len(t, p.got["all"], 1, "what happened together is told together")
	assert.Equal(t, "the-key-of-all-is-long", p.keys["all"])
	p.tick()
	assert.Len(t, p.got["all"], 1, "once")

	// Paused, it is told so and nothing after it; what happened meanwhile is not news later.
	all, err := p.Recipient(t.Context(), all.Name)
	require.NoError(t, err)
	p.got = map[string][]tell.Message{}
	all.Paused = true
	all = p.change(all)
	assert.Equal(t, []string{"recipient.save all"}, p.heard("all"))
	p.happens("service.freeze", "meanwhile")
	p.tick()
	p.now = p.now.Add(time.Minute)
	all.Paused = false
	p.change(all)
	p.happens("service.thaw", "afterwards")
	p.tick()
	assert.NotContains(t, p.heard("all"), "service.freeze meanwhile")
	assert.Contains(t, p.heard("all"), "service.thaw afterwards")
}

func (p *post) change(v records.Recipient) records.Recipient {
	p.t.Helper()
	v, err := p.Messages.Save(p.t.Context(), ines, v, secret.Value{})
	require.NoError(p.t, err)
	return v
}

func TestByLabel(t *testing.T) {
	p := newPost(t)
	ctx := t.Context()
	id, err := p.AddSystem(ctx, records.System{Name: "dir", Kind: "directory"})
	require.NoError(t, err)
	require.NoError(t, p.PutAccounts(ctx, id, []estate.Account{{StableID: "1", Name: "svc-berth", Type: "user"}, {StableID: "2", Name: "svc-tide", Type: "user"}}, store.NewSeen(), &records.Tally{}))
	require.NoError(t, p.PutLabel(ctx, records.HandLabel{AccountID: 1, Label: "quay", SetBy: "ines"}))
	p.add(records.Recipient{Name: "quay", RecipientSettings: records.RecipientSettings{Least: "informational", Labels: []string{"quay"}}})
	for _, name := range []string{"svc-berth", "svc-tide"} {
		p.happens("custody.take", name, ledger.Entry{Phase: ledger.Outcome, Result: "done", System: "dir"})
	}
	p.happens("service.freeze", "everything")
	p.happens("rotation.finished", "svc-none", ledger.Entry{Phase: ledger.Outcome, Ref: "rotation/77"})
	require.NoError(t, p.SetFindings(ctx, "drift/", []records.Finding{{Key: "drift/1", Kind: "drift", Severity: "high", Subject: "svc-berth", AccountID: 1, What: "x"}, {Key: "drift/2", Kind: "drift", Severity: "high", Subject: "svc-tide", AccountID: 2, What: "x"}}))
	p.tick()
	assert.Equal(t, []string{"custody.take svc-berth", "finding.raised svc-berth"}, p.heard("quay"))
}

func TestFindingsAreToldOnce(t *testing.T) {
	p := newPost(t)
	ctx := t.Context()
	drift := []records.Finding{{Key: "drift/1", Kind: "drift", Severity: "high", Subject: "svc-berth", What: "changed by somebody else"}}
	require.NoError(t, p.SetFindings(ctx, "old/", []records.Finding{{Key: "old/1", Kind: "old", Severity: "high", Subject: "before"}}))
	p.tick()
	p.now = p.now.Add(time.Minute)
	p.add(records.Recipient{Name: "all", RecipientSettings: records.RecipientSettings{Least: "informational", Events: []string{"finding.*"}}})
	step := func(list []records.Finding) {
		p.now = p.now.Add(time.Second)
		require.NoError(t, p.SetFindings(ctx, "drift/", list))
		p.tick()
	}
	step(drift)
	step(drift) // seen again
	assert.Equal(t, []string{"finding.raised svc-berth"}, p.heard("all"))
	step(nil)
	assert.Equal(t, []string{"finding.raised svc-berth", "finding.cleared svc-berth"}, p.heard("all"))
	step(drift)
	p.stop()
	p.start()
	p.tick()
	assert.Equal(t, []string{"finding.raised svc-berth", "finding.cleared svc-berth", "finding.raised svc-berth"}, p.heard("all"), "raised again; not told again by a restart")
}

// A side that is away for three minutes or days is told all of it, in order; whatever ends
// the service meanwhile.
func TestASideThatIsAway(t *testing.T) {
	p := newPost(t)
	p.add(records.Recipient{Name: "duty", RecipientSettings: records.RecipientSettings{Events: []string{"service.*"}}})
	p.add(records.Recipient{Name: "other", RecipientSettings: records.RecipientSettings{Events: []string{"finding.raised"}}})
	p.tick()
	p.away["duty"] = errors.New("no route to host")
	for i := range 3 {
		p.happens("service.freeze", fmt.Sprint("freeze ", i))
		p.tick()
		p.now = p.now.Add(time.Second)
	}
	p.tried = 0
	begun := p.now
	for p.now.Sub(begun) < 71*time.Hour {
		p.now = p.now.Add(5 * time.Minute)
		p.tick()
		if p.now.Sub(begun)%(10*time.Hour) < 5*time.Minute {
			p.stop() // killed: nothing was written after the last tick
			p.start()
		}
	}
	assert.Less(t, p.tried, 90, "it is asked less and less often")
	assert.Greater(t, p.tried, 60, "and not given up")
	assert.Equal(t, []string{"finding.raised duty"}, p.heard("other"), "others are told that it hears nothing, once")
	r, err := p.Recipient(t.Context(), "duty")
	require.NoError(t, err)
	assert.Equal(t, 3, r.Waiting)
	assert.Contains(t, r.Trouble, "no route to host")
	delete(p.away, "duty")
	p.now = p.now.Add(time.Hour)
	p.tick()
	assert.Equal(t, []string{"service.freeze freeze 0", "service.freeze freeze 1", "service.freeze freeze 2"}, p.heard("duty"))
	open, err := p.Findings(t.Context(), false, records.Query{Limit: 10})
	require.NoError(t, err)
	assert.Empty(t, open.Items, "and the finding is gone")
}

func TestGivenUpAndSentAgain(t *testing.T) {
	p := newPost(t)
	p.add(records.Recipient{Name: "duty", RecipientSettings: records.RecipientSettings{Events: []string{"service.*"}}})
	p.tick()
	p.away["duty"] = &tell.Refusal{Words: "HTTP 403 Forbidden"}
	p.happens("service.freeze", "everything")
	for range 60 {
		p.now = p.now.Add(5 * time.Minute)
		p.tick()
	}
	assert.Equal(t, mostRefused, p.tried, "one that refuses is not asked for ever")
	r, err := p.Recipient(t.Context(), "duty")
	require.NoError(t, err)
	assert.Equal(t, []int{0, 1}, []int{r.Waiting, r.GivenUp})
	open, err := p.Findings(t.Context(), false, records.Query{Limit: 10})
	require.NoError(t, err)
	require.Len(t, open.Items, 1)
	assert.Contains(t, open.Items[0].What, "given up: HTTP 403")
	assert.Contains(t, open.Items[0].Next, "moss notify retry duty")

	delete(p.away, "duty")
	n, err := p.Retry(t.Context(), ines, "duty")
	require.NoError(t, err)
	assert.EqualValues(t, 1, n)
	p.tick()
	assert.Equal(t, []string{"service.freeze everything"}, p.heard("duty"))
	n, err = p.Retry(t.Context(), ines, "duty")
	require.NoError(t, err)
	assert.Zero(t, n)

	// Paused while it was silent: nobody needs to mend anything.
	p.away["duty"] = errors.New("away")
	p.happens("service.freeze", "once more")
	for range 4 {
		p.now = p.now.Add(5 * time.Minute)
		p.tick()
	}
	silent := func() int {
		page, err := p.Findings(t.Context(), false, records.Query{Limit: 10})
		require.NoError(t, err)
		return len(page.Items)
	}
	require.Equal(t, 1, silent())
	r, err = p.Recipient(t.Context(), "duty")
	require.NoError(t, err)
	r.Paused = true
	r = p.change(r)
	assert.Zero(t, silent())
	r.Paused = false
	p.change(r)
	delete(p.away, "duty")
	p.now = p.now.Add(2 * time.Hour)
	p.tick()

	// Away for more than three days.
	p.away["duty"] = errors.New("away")
	p.happens("service.thaw", "everything")
	p.tick()
	p.now = p.now.Add(Patience + time.Minute)
	p.tick()
	page, err := p.AllMessages(t.Context(), records.Query{Filters: []string{"state=given-up"}, Limit: 10})
	require.NoError(t, err)
	assert.Len(t, page.Items, 1)
	p.now = p.now.Add(keepGivenUp + time.Hour)
	_, err = p.Forget(t.Context())
	require.NoError(t, err)
	page, err = p.AllMessages(t.Context(), records.Query{Limit: 10})
	require.NoError(t, err)
	assert.Empty(t, page.Items, "old ones are forgotten")
}

// An interruption is no attempt, and what was taken before the end was written is sent again
// as the same message.
func TestEndedWhileSending(t *testing.T) {
	p := newPost(t)
	p.add(records.Recipient{Name: "duty", RecipientSettings: records.RecipientSettings{Events: []string{"service.*"}}})
	p.tick()
	p.happens("service.freeze", "everything")
	list, err := p.gather(t.Context())
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	p.during = func(tell.Place) { cancel() }
	p.away["duty"] = context.Canceled
	require.ErrorIs(t, p.deliver(ctx, list[0]), context.Canceled)
	waits, err := p.Waiting(t.Context(), list[0].ID, 10)
	require.NoError(t, err)
	assert.Zero(t, waits[0].Attempts)
	// Taken, and killed before it was written.
	delete(p.away, "duty")
	p.during = nil
	_, err = p.sendOne(t.Context(), list[0], waits[0])
	require.NoError(t, err)
	p.stop()
	p.start()
	p.tick()
	require.Len(t, p.got["duty"], 2)
	assert.Equal(t, p.got["duty"][0].ID, p.got["duty"][1].ID, "its reader knows it")
}

func TestMailIsGathered(t *testing.T) {
	p := newPost(t)
	p.add(records.Recipient{Name: "team", Kind: tell.Mail, Address: "mail.larkmoor.example:587", RecipientSettings: records.RecipientSettings{From: "moss@larkmoor.example", To: []string{"b@larkmoor.example", "a@larkmoor.example", "b@larkmoor.example"}, Events: []string{"service.*"}}})
	p.tick()
	for i := range 250 {
		p.happens("service.freeze", fmt.Sprint(i))
		if i%50 == 0 {
			p.tick()
		}
	}
	p.tick()
	assert.Empty(t, p.got["team"])
	p.now = p.now.Add(gathering + time.Second)
	p.tick()
	assert.Len(t, p.heard("team"), 250)
	assert.LessOrEqual(t, len(p.got["team"]), 6, "letters, each with a hundred events at most")
	for _, m := range p.got["team"] {
		assert.LessOrEqual(t, len(m.Events), mostEvents)
	}
	assert.True(t, slices.IsSortedFunc(p.got["team"], func(a, b tell.Message) int { return a.Made.Compare(b.Made) }))
}

// A side that is away for long, while much happens, does not fill the disk.
func TestTooMuchWaits(t *testing.T) {
	p := newPost(t)
	p.add(records.Recipient{Name: "duty", RecipientSettings: records.RecipientSettings{Events: []string{"service.*"}}})
	p.away["duty"] = errors.New("away")
	p.tick()
	p.most = 40
	for i := range p.most + 3 {
		p.happens("service.freeze", fmt.Sprint(i))
		_, err := p.gather(t.Context())
		require.NoError(t, err)
	}
	r, err := p.Recipient(t.Context(), "duty")
	require.NoError(t, err)
	assert.Equal(t, []int{p.most, 3}, []int{r.Waiting, r.GivenUp})
	waits, err := p.Waiting(t.Context(), r.ID, 1)
	require.NoError(t, err)
	assert.Equal(t, "3", waits[0].Events[0].Subject, "the oldest are given up")
}

// The service's own loop tells people by itself, one that hangs holds up no other, and all
// of it ends with the service.
func TestItRunsByItself(t *testing.T) {
	p := newPost(t)
	hangs := make(chan struct{})
	told := make(chan string, 10)
	p.send = func(ctx context.Context, to tell.Place, _ tell.Message) (string, error) {
		if to.Name == "hangs" {
			close(hangs)
			<-ctx.Done()
			return "", ctx.Err()
		}
		told <- to.Name
		return "", nil
	}
	p.add(records.Recipient{Name: "duty", RecipientSettings: records.RecipientSettings{Events: []string{"service.*"}}})
	p.add(records.Recipient{Name: "hangs", RecipientSettings: records.RecipientSettings{Events: []string{"service.freeze"}}})
	p.Start()
	p.happens("service.freeze", "everything")
	p.Kick()
	<-hangs
	assert.Equal(t, "duty", <-told)
	p.happens("service.thaw", "everything")
	p.Kick()
	assert.Equal(t, "duty", <-told)
	p.base.Stop()
	waits, err := p.Waiting(t.Context(), 2, 10)
	require.NoError(t, err)
	assert.Zero(t, waits[0].Attempts)
}
