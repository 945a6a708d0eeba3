// Package traces shows what the service itself sends to a system: while somebody wants to see
// it, for a time that has an end, with secrets left out. It ends by itself.
package traces

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/records"
)

// Store is what this package needs of the store.
type Store interface {
	AddTrace(ctx context.Context, v records.Trace, entries ...ledger.Entry) (records.TraceID, error)
	EndTrace(ctx context.Context, id records.TraceID, by string, entries ...ledger.Entry) (bool, error)
	ForgetTraces(ctx context.Context, before time.Time) error
	OpenTraces(ctx context.Context) ([]records.Trace, error)
	PutOperations(ctx context.Context, id records.TraceID, list []records.TracedOperation, lost int) error
	System(ctx context.Context, idOrName string) (records.System, error)
	Trace(ctx context.Context, id records.TraceID) (records.Trace, error)
}

// Bounds of traces.
const (
	Longest        = 24 * time.Hour
	mostAtOnce     = 20
	mostOperations = 50_000 // of one trace; what comes after is counted
	keptFor        = 30 * 24 * time.Hour
	mostText       = 16 << 10
)

// Traces keeps them. Safe for concurrent use.
type Traces struct {
	base  *app.Base
	store Store

	any, writing atomic.Bool // there is one: looked at for each operation
	lock         sync.RWMutex
	open         map[records.SystemID][]*running
	fed          chan fed
	begun        sync.Once
}

type running struct {
	records.Trace
	taken, lost atomic.Int64
}

type fed struct {
	of        *running
	operation connect.Operation
	written   chan struct{} // closed once all before it is kept; of none of the rest
}

// New makes one.
func New(base *app.Base, store Store) *Traces {
	return &Traces{base: base, store: store, open: map[records.SystemID][]*running{}, fed: make(chan fed, 8192)}
}

// Recover takes up those that were open when the service ended.
func (traces *Traces) Recover(ctx context.Context) error {
	list, err := traces.store.OpenTraces(ctx)
	if err != nil {
		return err
	}
	for _, v := range list {
		r := &running{Trace: v}
		r.taken.Store(int64(v.Operations))
		traces.add(r)
	}
	return nil
}

func (traces *Traces) add(r *running) {
	traces.lock.Lock()
	traces.open[r.SystemID] = append(traces.open[r.SystemID], r)
	traces.lock.Unlock()
	traces.any.Store(true)
	traces.begun.Do(func() {
		if traces.base.Begin() {
			traces.writing.Store(true)
			go traces.write()
		}
	})
}

// Of is what takes the operations on a system.
func (traces *Traces) Of(system records.SystemID) connect.Tracer { return tracer{traces, system} }

type tracer struct {
	traces *Traces
	system records.SystemID
}

// Active implements connect.Tracer.
func (t tracer) Active() bool {
	if !t.traces.any.Load() {
		return false
	}
	t.traces.lock.RLock()
	defer t.traces.lock.RUnlock()
	return len(t.traces.open[t.system]) > 0
}

// Take implements connect.Tracer.
func (t tracer) Take(o connect.Operation) {
	t.traces.lock.RLock()
	defer t.traces.lock.RUnlock()
	for _, r := range t.traces.open[t.system] {
		if !t.traces.base.Now().Before(r.Ends) || r.Account != "" && !strings.Contains(strings.ToLower(o.Text), strings.ToLower(r.Account)) {
			continue
		}
		if r.taken.Add(1) > mostOperations {
			r.lost.Add(1)
			continue
		}
		select {
		case t.traces.fed <- fed{of: r, operation: o}:
		default:
			r.lost.Add(1) // nothing that is sent waits for being seen
		}
	}
}

// Start begins one.
func (traces *Traces) Start(ctx context.Context, by access.Actor, system, account string, last time.Duration, reason string) (records.Trace, error) {
	v, err := traces.store.System(ctx, system)
	if err != nil {
		return records.Trace{}, err
	}
	if err := access.Decide(by, access.StartTrace, access.Object{Kind: "system", Name: v.Name}); err != nil {
		return records.Trace{}, err
	}
	switch {
	case last < time.Minute || last > Longest:
		return records.Trace{}, fmt.Errorf("%w: a trace lasts from a minute to %s, and says how long", app.ErrInput, "24 hours")
	case strings.TrimSpace(reason) == "":
		return records.Trace{}, fmt.Errorf("%w: say why", app.ErrInput)
	}
	open, err := traces.store.OpenTraces(ctx)
	if err != nil {
		return records.Trace{}, err
	}
	if len(open) >= mostAtOnce {
		return records.Trace{}, fmt.Errorf("%w: %d traces are open, and no more at once", app.ErrRefused, len(open))
	}
	now := traces.base.Now()
	t := records.Trace{SystemID: v.ID, System: v.Name, Account: strings.TrimSpace(account), Reason: reason, Started: now, StartedBy: by.Name, Ends: now.Add(last)}
	detail := "until " + t.Ends.UTC().Format(time.RFC3339)
	if t.Account != "" {
		detail += ", what names " + t.Account
	}
	if t.ID, err = traces.store.AddTrace(ctx, t, ledger.Entry{Actor: by.Name, Act: "trace.start", Phase: ledger.Outcome, Subject: v.Name, System: v.Name, Result: "done", Reason: reason, Detail: detail}); err != nil {
		return t, err
	}
	traces.add(&running{Trace: t})
	traces.base.Topics.Wake("all")
	return t, nil
}

// Stop ends one before its time.
func (traces *Traces) Stop(ctx context.Context, by access.Actor, id records.TraceID) (records.Trace, error) {
	v, err := traces.store.Trace(ctx, id)
	if err != nil {
		return v, err
	}
	if err := access.Decide(by, access.StopTrace, access.Object{Kind: "system", Name: v.System}); err != nil {
		return v, err
	}
	if err := traces.end(ctx, v, by.Name); err != nil {
		return v, err
	}
	return traces.store.Trace(ctx, id)
}

// end ends one, once all that it took is kept.
func (traces *Traces) end(ctx context.Context, v records.Trace, by string) error {
	traces.lock.Lock()
	var lost int64
	left := traces.open[v.SystemID][:0:0]
	for _, r := range traces.open[v.SystemID] {
		if r.ID == v.ID {
			lost = r.lost.Swap(0)
		} else {
			left = append(left, r)
		}
	}
	traces.open[v.SystemID] = left
	if len(left) == 0 {
		delete(traces.open, v.SystemID)
	}
	traces.any.Store(len(traces.open) > 0)
	traces.lock.Unlock()
	if lost > 0 {
		if err := traces.store.PutOperations(ctx, v.ID, nil, int(lost)); err != nil {
			return err
		}
	}
	_, err := traces.store.EndTrace(ctx, v.ID, by, ledger.Entry{Actor: by, Act: "trace.end", Phase: ledger.Outcome, Subject: v.System, System: v.System, Result: "done", Detail: fmt.Sprintf("trace %d", v.ID)})
	traces.base.Topics.Wake("all")
	return err
}

// Flush waits until what was taken up to now is kept.
func (traces *Traces) Flush(ctx context.Context) {
	if !traces.writing.Load() {
		return
	}
	written := make(chan struct{})
	select {
	case traces.fed <- fed{written: written}:
	case <-ctx.Done():
		return
	case <-traces.base.Context.Done():
		return
	}
	select {
	case <-written:
	case <-ctx.Done():
	case <-traces.base.Context.Done():
	}
}

const writeEvery = 500 * time.Millisecond

// write keeps what is taken, and ends traces whose time is over, until the service ends.
func (traces *Traces) write() {
	defer traces.base.Work.Done()
	tick := time.NewTicker(writeEvery)
	defer tick.Stop()
	pending := map[*running][]records.TracedOperation{}
	n := 0
	keep := func(ctx context.Context) {
		for r, list := range pending {
			if err := traces.store.PutOperations(ctx, r.ID, list, int(r.lost.Swap(0))); err != nil {
				traces.base.Log.Error("what was traced cannot be kept", "trace", r.ID, "error", err)
				r.lost.Add(int64(len(list)))
			}
		}
		if len(pending) > 0 {
			traces.base.Topics.Wake("all")
		}
		clear(pending)
		n = 0
	}
	for {
		select {
		case <-traces.base.Context.Done():
			for len(traces.fed) > 0 {
				traces.pend(pending, <-traces.fed)
			}
			keep(context.WithoutCancel(traces.base.Context))
			return
		case f := <-traces.fed:
			if f.written != nil {
				keep(traces.base.Context)
				close(f.written)
				continue
			}
			traces.pend(pending, f)
			if n++; n >= 500 {
				keep(traces.base.Context)
			}
		case <-tick.C:
			keep(traces.base.Context)
			traces.endOver(traces.base.Context)
		}
	}
}

func (traces *Traces) pend(pending map[*running][]records.TracedOperation, f fed) {
	if f.of == nil {
		return
	}
	clean, o := traces.base.Redactor(traces.base.Context), f.operation
	pending[f.of] = append(pending[f.of], records.TracedOperation{At: o.At, Protocol: o.By, Text: bounded(clean.Text(o.Text)), Micro: o.Took.Microseconds(), Outcome: o.Outcome, Exit: o.Exit, Words: bounded(clean.Text(o.Words))})
}

// bounded cuts what is longer than anybody reads.
func bounded(text string) string {
	if len(text) <= mostText {
		return text
	}
	return strings.ToValidUTF8(text[:mostText], "") + fmt.Sprintf(" ... (%d bytes)", len(text))
}

// endOver ends those whose time is over.
func (traces *Traces) endOver(ctx context.Context) {
	var over []records.Trace
	traces.lock.RLock()
	for _, list := range traces.open {
		for _, r := range list {
			if !traces.base.Now().Before(r.Ends) {
				over = append(over, r.Trace)
			}
		}
	}
	traces.lock.RUnlock()
	for _, v := range over {
		if err := traces.end(ctx, v, access.Service().Name); err != nil && ctx.Err() == nil {
			traces.base.Log.Error("a trace whose time is over cannot be ended", "trace", v.ID, "error", err)
		}
	}
}

// Forget removes traces that ended long ago.
func (traces *Traces) Forget(ctx context.Context) error {
	return traces.store.ForgetTraces(ctx, traces.base.Now().Add(-keptFor))
}
