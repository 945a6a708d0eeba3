package connect

import (
	"cmp"
	"context"
	"net"
)

// A name may have several addresses, each of another server that holds the same
// entries, and they learn of changes from each other some time later. What is changed
// on one and looked at on another is judged wrongly: "the old value is accepted, the
// new one is not" is then no proof that nothing was changed. So the calls of one piece
// of work (KeepSessions) stay with the address that the first of them reached. When it
// does not answer, the system is away; another one is not asked.

// NameOf is the name of a target that may have several addresses; "" for an address.
func NameOf(target Target) string {
	name := cmp.Or(target.Address, target.Name)
	if net.ParseIP(name) != nil {
		return ""
	}
	return name
}

// Pin has the calls made with the context reach a target's name at this address only,
// unless an earlier one of them has reached it.
func Pin(ctx context.Context, target Target, address string) {
	kept, name := SessionsOf(ctx), NameOf(target)
	if kept == nil || name == "" || address == "" {
		return
	}
	kept.lock.Lock()
	defer kept.lock.Unlock()
	if kept.pins[name] == "" {
		kept.pins[name] = address
	}
}

// PinOf is the address at which the calls made with the context reach a target; ""
// when none has reached it, or it is no name.
func PinOf(ctx context.Context, target Target) string {
	kept := SessionsOf(ctx)
	if kept == nil {
		return ""
	}
	kept.lock.Lock()
	defer kept.lock.Unlock()
	return kept.pins[NameOf(target)]
}
