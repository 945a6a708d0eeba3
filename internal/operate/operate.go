// Package operate does the work: it runs surveys, takes custody, rehearses and
// rotates, by putting the store, the connectors and the core together. The
// service's API is a thin layer over it. Every act on a system is written to
// the ledger before it happens and with its outcome after.
package operate

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"runtime"
	"runtime/debug"
	"strconv"
	"sync"
	"time"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/store"
)

// Errors that callers decide by.
var (
	ErrInput    = errors.New("input")          // the caller can correct it
	ErrRefused  = errors.New("refused")        // a law or a rule forbids it now
	ErrNotFound = store.ErrNotFound            // there is no such thing
	ErrCannot   = errors.New("cannot be done") // this kind of system does not offer it
)

// Config is what an Operator is made of.
type Config struct {
	Store    *store.Store
	Witness  store.Witness // of the ledger's head; nil for a file beside the database
	Master   []byte        // master key
	Random   io.Reader
	Now      func() time.Time
	Log      *slog.Logger
	Parallel int // visits at the same time; 0 for four a processor, at least eight
	Acts     int // acts of one rotation at the same time; 0 for 32
	// Drill ends the process with SIGKILL after that many journal records of
	// rotations, to exercise recovery; 0 never.
	Drill int
	Kill  func() // what a drill calls
}

// Operator does the work. Make one with New, Start it, Stop it.
type Operator struct {
	Config
	sealer       *secret.Sealer
	fingerprints *secret.Fingerprinter
	bus          *bus

	base   context.Context // ends with Stop
	cancel context.CancelFunc
	work   sync.WaitGroup

	lock      sync.Mutex
	stopping  bool // nothing begins any more
	surveys   map[int64]context.CancelFunc
	rereads   map[int64]chan struct{} // surveys that follow a rotation, until they end
	rotations map[int64]*running
	journaled int
	settling  bool            // values whose fate is not known are being asked for
	searching []*search       // in the order of their beginning
	known     map[string]bool // fingerprints of what is in custody
	knownAt   time.Time

	reading  map[int64]chan struct{} // systems that are read, each until it is closed
	visiting chan struct{}           // a place for each visit, over all surveys

	turns turns // at files that acts change
}

// TuneMemory lets the heap grow to four times what is in use before it is
// cleaned up: surveys make much short-lived data, and what is in use is small.
func TuneMemory() { debug.SetGCPercent(300) }

// New makes an Operator and opens the ledger.
func New(ctx context.Context, config Config) (*Operator, error) {
	sealer, err := secret.NewSealer(config.Master, config.Random)
	if err != nil {
		return nil, err
	}
	fingerprints, err := secret.NewFingerprinter(config.Master)
	if err != nil {
		return nil, err
	}
	if config.Parallel == 0 {
		config.Parallel = max(8, 4*runtime.GOMAXPROCS(0))
	}
	if config.Acts == 0 {
		config.Acts = 32
	}
	if config.Witness == nil {
		config.Witness = config.Store.FolderWitness()
	}
	if err := config.Store.OpenLedger(ctx, sealer, config.Witness); err != nil {
		return nil, err
	}
	o := &Operator{Config: config, sealer: sealer, fingerprints: fingerprints, bus: newBus(), surveys: map[int64]context.CancelFunc{}, rereads: map[int64]chan struct{}{}, rotations: map[int64]*running{}, reading: map[int64]chan struct{}{}, visiting: make(chan struct{}, config.Parallel)}
	o.base, o.cancel = context.WithCancel(context.Background())
	if err := o.bindExisting(ctx); err != nil {
		return nil, fmt.Errorf("bind what is there to its systems: %w", err)
	}
	return o, nil
}

// Start takes up what an earlier run of the service left.
func (o *Operator) Start(ctx context.Context) error {
	if err := o.Store.InterruptSurveys(ctx); err != nil {
		return fmt.Errorf("close interrupted surveys: %w", err)
	}
	unfinished, err := o.Store.Unfinished(ctx)
	if err != nil {
		return fmt.Errorf("read unfinished rotations: %w", err)
	}
	if err := o.renewRotationFindings(ctx); err != nil {
		return fmt.Errorf("findings of rotations: %w", err)
	}
	for _, r := range unfinished {
		o.Log.Info("taking up a rotation", "rotation", r.ID, "account", r.Account, "mode", r.Mode)
		o.launch(r)
	}
	o.settleLater()
	return nil
}

// Stop ends all work at the next safe point and waits for it.
func (o *Operator) Stop() {
	o.lock.Lock()
	o.stopping = true
	o.cancel()
	o.lock.Unlock()
	o.work.Wait()
}

// begin counts one more piece of work that Stop waits for; its end is
// o.work.Done. It says no once Stop was called. The lock must be held.
func (o *Operator) begin() bool {
	if o.stopping {
		return false
	}
	o.work.Add(1)
	return true
}

// Sealer gives the sealing to the parts of the service that keep their own.
func (o *Operator) Sealer() *secret.Sealer { return o.sealer }

// Mark is a keyed fingerprint of a text for a purpose: it can be written where
// the text must not stand.
func (o *Operator) Mark(purpose, text string) string {
	return o.sealer.Mark(purpose, text)[:24]
}

// Record writes to the ledger.
func (o *Operator) Record(ctx context.Context, e ledger.Entry) error {
	return o.Store.Record(context.WithoutCancel(ctx), e)
}

// act writes the intent, does it, and writes the outcome. Law 8.
func (o *Operator) act(ctx context.Context, e ledger.Entry, do func() error) error {
	e.Phase = ledger.Intent
	if err := o.Record(ctx, e); err != nil {
		return fmt.Errorf("the ledger cannot be written, so nothing was done: %w", err)
	}
	err := do()
	e.Phase, e.Result = ledger.Outcome, "done"
	if err != nil {
		e.Result, e.Detail = "failed", o.redact(ctx, err.Error())
		var f *connect.Failure
		if errors.As(err, &f) && f.Unclear {
			e.Result = "unclear"
		}
	}
	if writeErr := o.Record(ctx, e); writeErr != nil {
		return errors.Join(err, fmt.Errorf("the outcome could not be written to the ledger: %w", writeErr))
	}
	return err
}

// target makes a connector's target of a system, with its log-on opened. It is
// the only way to a target, so nothing secret goes to an endpoint that was not
// approved.
func (o *Operator) target(ctx context.Context, v store.System) (connect.Connector, connect.Target, error) {
	connector, t, err := o.place(ctx, v)
	if err != nil {
		return nil, t, err
	}
	if err := o.approvedEndpoint(ctx, v); err != nil {
		return nil, t, err
	}
	if v.LogOn != "" {
		logon, err := o.Store.LogOn(ctx, v.LogOn)
		if err != nil {
			return nil, t, err
		}
		t.LogOn.Account = logon.Account
		if t.LogOn.Password, err = o.open("logon/"+logon.Name+"/password", logon.SealedPassword); err != nil {
			return nil, t, fmt.Errorf("log-on %q: %w", logon.Name, err)
		}
		if t.LogOn.PrivateKey, err = o.open("logon/"+logon.Name+"/key", logon.SealedKey); err != nil {
			return nil, t, fmt.Errorf("log-on %q: %w", logon.Name, err)
		}
		if err := o.signIn(ctx, connector, &t, v); err != nil {
			return nil, t, fmt.Errorf("log-on %q: %w", logon.Name, err)
		}
	}
	return connector, t, nil
}

// place is a target without anything secret.
func (o *Operator) place(ctx context.Context, v store.System) (connect.Connector, connect.Target, error) {
	connector, ok := connect.For(estate.Kind(v.Kind))
	if !ok {
		return nil, connect.Target{}, fmt.Errorf("%w: %s: nothing here reaches the kind %q", ErrCannot, v.Name, v.Kind)
	}
	t := connect.Target{
		SystemID: strconv.FormatInt(v.ID, 10), Name: v.Name, Kind: estate.Kind(v.Kind), Address: v.Address, Port: v.Port,
		TrustedCA: v.TrustedCA, HostKeys: v.HostKeys, Identity: v.Facts.Identity,
	}
	var err error
	if t.Options, err = o.optionsFor(ctx, v); err != nil {
		return nil, t, err
	}
	return connector, t, nil
}

func (o *Operator) open(binding string, sealed []byte) (secret.Value, error) {
	if len(sealed) == 0 {
		return secret.Value{}, nil
	}
	return o.sealer.Open(binding, sealed)
}

func (o *Operator) seal(binding string, v secret.Value) ([]byte, error) {
	if v.Empty() {
		return nil, nil
	}
	return o.sealer.Seal(binding, v)
}

// Wake returns a channel that gets a value whenever the topic changes, and a
// function to let go of it.
func (o *Operator) Wake(topic string) (<-chan struct{}, func()) { return o.bus.listen(topic) }

// Done is closed when the Operator stops.
func (o *Operator) Done() <-chan struct{} { return o.base.Done() }

// bus wakes those who wait for a topic. What changed they read from the store.
type bus struct {
	lock      sync.Mutex
	listeners map[string]map[chan struct{}]bool
}

func newBus() *bus { return &bus{listeners: map[string]map[chan struct{}]bool{}} }

func (b *bus) listen(topic string) (<-chan struct{}, func()) {
	ch := make(chan struct{}, 1)
	b.lock.Lock()
	defer b.lock.Unlock()
	if b.listeners[topic] == nil {
		b.listeners[topic] = map[chan struct{}]bool{}
	}
	b.listeners[topic][ch] = true
	return ch, func() {
		b.lock.Lock()
		defer b.lock.Unlock()
		delete(b.listeners[topic], ch)
		if len(b.listeners[topic]) == 0 {
			delete(b.listeners, topic)
		}
	}
}

func (b *bus) wake(topics ...string) {
	b.lock.Lock()
	defer b.lock.Unlock()
	for _, topic := range topics {
		for ch := range b.listeners[topic] {
			select {
			case ch <- struct{}{}:
			default:
			}
		}
	}
}

// Topics of the bus.
func surveyTopic(id int64) string   { return fmt.Sprintf("survey/%d", id) }
func rotationTopic(id int64) string { return fmt.Sprintf("rotation/%d", id) }

// SurveyTopic names the topic of a survey.
func SurveyTopic(id int64) string { return surveyTopic(id) }

// RotationTopic names the topic of a rotation.
func RotationTopic(id int64) string { return rotationTopic(id) }
