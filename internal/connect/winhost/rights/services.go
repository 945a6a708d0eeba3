package rights

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"

	"mossledger.example/moss/internal/connect/wsman"
	"mossledger.example/moss/internal/core/privilege"
	"mossledger.example/moss/internal/core/privilege/descriptor"
)

const servicesKey = `SYSTEM\CurrentControlSet\Services`

// Verbs of services.
const (
	VerbStart       = "start"
	VerbStop        = "stop"
	VerbChange      = "change" // what it runs and what it logs on as: whoever may do that may do what it may
	verbPermissions = "change permissions"
	verbOwn         = "take ownership"
	verbDelete      = "delete"
)

// Rights of a service's mask ([MS-SCMR], section 2.2.11 and the table of access rights in 3.1.4).
const (
	serviceChange  = 0x0002
	serviceStart   = 0x0010
	serviceStop    = 0x0020
	serviceAll     = 0xF01FF
	genericExecute = 0x20000000
)

// verbsOf are what an entry of a service's access list gives or takes.
func verbsOf(mask uint32) (out []string) {
	if mask&descriptor.GenericAll != 0 || mask&serviceAll == serviceAll {
		return []string{privilege.VerbEverything}
	}
	if mask&descriptor.GenericWrite != 0 {
		mask |= serviceChange
	}
	if mask&genericExecute != 0 {
		mask |= serviceStart | serviceStop
	}
	for _, v := range []struct {
		mask uint32
		verb string
	}{{serviceStart, VerbStart}, {serviceStop, VerbStop}, {serviceChange, VerbChange}, {descriptor.WriteDACL, verbPermissions}, {descriptor.WriteOwner, verbOwn}, {descriptor.Delete, verbDelete}} {
		if mask&v.mask != 0 {
			out = append(out, v.verb)
		}
	}
	return out
}

// entriesOf are those of a service's own descriptor, in its order.
func (r *reader) entriesOf(d descriptor.Descriptor) (out []privilege.Entry, err error) {
	if d.Rules == nil {
		to, err := r.trustee(everyone)
		return []privilege.Entry{{To: to, Verb: privilege.VerbEverything, Text: "there is no access list"}}, err
	}
	for _, e := range d.Rules.Entries {
		sid := e.Trustee.String()
		if sid == "S-1-5-18" || e.Known() && e.Flags&descriptor.InheritOnly != 0 {
			continue // the system itself
		}
		if !e.Known() {
			to, err := r.trustee(everyone)
			if err != nil {
				return nil, err
			}
			out = append(out, privilege.Entry{To: to, Verb: privilege.VerbEverything, Unsure: "an entry of a kind that is not known here: " + e.String(), Text: e.String()})
			continue
		}
		verbs := verbsOf(e.Mask)
		if len(verbs) == 0 || e.Type != descriptor.Allow && e.Type != descriptor.Deny {
			continue
		}
		to, err := r.trustee(sid)
		if err != nil {
			return nil, err
		}
		for _, verb := range verbs {
			given := privilege.Entry{To: to, Verb: verb, Deny: e.Denies(), Text: e.String(), Source: "the service's security descriptor"}
			switch {
			case e.Conditional():
				given.Unsure = "it counts under a condition"
			case some[sid] != "":
				given.Unsure = "it counts for whoever " + some[sid]
			}
			out = append(out, given)
		}
	}
	return out, nil
}

// servicesPrefix begins the keys of lists about services.
const servicesPrefix = privilege.SharedKey + "service:"

// mostServices is how many services are asked about: more than a host has, and less than what
// a host that was turned could keep a survey busy with.
const mostServices = 5_000

// usual is what a service that has no descriptor of its own lets others do: administrators
// everything, and whoever signs in may look.
func usual() []privilege.Entry {
	return []privilege.Entry{{To: "S-1-5-32-544", Verb: privilege.VerbEverything, Text: "(A;;CCDCLCSWRPWPDTLOCRSDRCWDWO;;;S-1-5-32-544)", Source: "what services have that have no security descriptor of their own"}}
}

// services reads who may do what to each service. What is kept of a service in the registry
// holds its security descriptor, in a key that only administrators may read.
func (r *reader) services() error {
	lists := map[string]int{}
	put := func(key, name string, entries func() ([]privilege.Entry, error)) error {
		at, there := lists[key]
		if !there {
			list, err := entries()
			if err != nil || len(list) == 0 {
				return err
			}
			at = len(r.out.Lists)
			lists[key] = at
			r.out.Lists = append(r.out.Lists, privilege.List{Key: key, Decides: privilege.DecidesFirst, Entries: list})
		}
		r.out.Lists[at].Objects = append(r.out.Lists[at].Objects, privilege.Object{Kind: "service", Name: name})
		return nil
	}
	var names []string
	if err := r.Enumerate(spaceCIM, "Win32_Service", "", func(i *wsman.Instance) error {
		names = append(names, i.Text("Name"))
		return nil
	}); err != nil {
		return err
	}
	if len(names) > mostServices {
		r.missing("permissions of services", fmt.Sprintf("there are more than %d services", mostServices))
		names = names[:mostServices]
	}
	unread, why := 0, ""
	for i, kept := range r.all(names) {
		name, raw, own, err := names[i], kept.raw, kept.own, kept.err
		if err == nil && !own {
			if _, administrators := r.kinds["S-1-5-32-544"]; administrators {
				err = put(servicesPrefix+"usual", name, func() ([]privilege.Entry, error) { return usual(), nil })
			}
		} else if err == nil {
			var d descriptor.Descriptor
			if d, err = descriptor.Parse(raw); err == nil {
				sum := sha256.Sum256(raw)
				err = put(servicesPrefix+hex.EncodeToString(sum[:12]), name, func() ([]privilege.Entry, error) { return r.entriesOf(d) })
			}
		}
		if err != nil && !one(err) {
			return err
		}
		if err != nil {
			if unread++; why == "" {
				why = name + ": " + err.Error()
			}
		}
	}
	if unread > 0 {
		r.missing("permissions of services", fmt.Sprintf("those of %d of %d could not be read: %s", unread, len(names), why))
	}
	return nil
}

// atOnce is how many services are asked about at the same time, each over a connection of its
// own: a question takes little more than the way there and back.
const atOnce = 4

// kept is what is kept of a service.
type kept struct {
	raw []byte
	own bool
	err error
}

// all reads the descriptors of services, in the order of their names.
func (r *reader) all(names []string) []kept {
	out := make([]kept, len(names))
	next := make(chan int)
	var workers sync.WaitGroup
	var broken atomic.Pointer[error] // the connection is: the rest is not waited for
	ask := func(registry Registry) {
		for i := range next {
			if err := broken.Load(); err != nil {
				out[i].err = *err
				continue
			}
			out[i].raw, out[i].own, out[i].err = security(registry, names[i])
			if err := out[i].err; err != nil && !one(err) {
				broken.Store(&err)
			}
		}
	}
	workers.Go(func() { ask(r.Registry) })
	for range min(atOnce, len(names)) - 1 {
		if r.Another == nil {
			break
		}
		registry, end, err := r.Another()
		if err != nil {
			break // the first one goes on alone
		}
		workers.Go(func() {
			defer end()
			ask(registry)
		})
	}
	for i := range names {
		next <- i
	}
	close(next)
	workers.Wait()
	return out
}

// security reads the descriptor of a service; own is false where it has none of its own.
func security(registry Registry, name string) (raw []byte, own bool, err error) {
	const (
		missing = 2
		denied  = 5
	)
	out, err := registry("GetBinaryValue", servicesKey+`\`+name+`\Security`, wsman.Pair{Name: "sValueName", Value: "Security"})
	if err != nil {
		return nil, false, err
	}
	switch code := out.Int("ReturnValue"); code {
	case 0:
	case missing:
		return nil, false, nil
	case denied:
		return nil, false, fmt.Errorf("GetBinaryValue returned %d: the steward may not read it, administrators may", code)
	default:
		return nil, false, fmt.Errorf("GetBinaryValue returned %d", code)
	}
	for _, text := range out.List("uValue") {
		b, err := strconv.ParseUint(strings.TrimSpace(text), 10, 8)
		if err != nil {
			return nil, false, fmt.Errorf("GetBinaryValue gave %q for a byte", text)
		}
		raw = append(raw, byte(b))
	}
	return raw, true, nil
}
