package directory

import (
	"slices"
	"time"

	"mossledger.example/moss/internal/core/privilege/descriptor"
)

// descriptorAttribute is shown to who asks for it by name.
const descriptorAttribute = "nTSecurityDescriptor"

// domainSID is one of the domain by its number.
func (s *Server) domainSID(rid uint32) descriptor.SID {
	return sidOf(s.sid(rid))
}

func sidOf(raw []byte) descriptor.SID {
	sid, err := descriptor.ReadSID(raw)
	if err != nil {
		return descriptor.SID{}
	}
	return sid
}

// described is what an entry has that nobody was allowed something on: the administrators
// of the domain may do all, whoever has signed in may read.
func (s *Server) described(e *Entry) []byte {
	entries := []descriptor.Entry{}
	entries = append(entries, e.allowed...)
	signedIn := descriptor.SID{Authority: 5, Sub: []uint32{11}}
	entries = append(entries, descriptor.Entry{Mask: descriptor.FullControl, Trustee: s.domainSID(512)}, descriptor.Entry{Mask: descriptor.ReadControl | descriptor.ReadProperty, Trustee: signedIn})
	return descriptor.Build(s.domainSID(512), entries...)
}

// Rights and properties that a descriptor may be about alone ([MS-ADA1] to [MS-ADA3],
// [MS-ADTS], section 5.1.3.2.1), by what is written.
const rightToReset = "00299570-246d-11d0-a768-00aa006e0529"

// accountRestrictions is the set of properties that say how an account may be used.
const accountRestrictions = "4c164200-20c0-11d0-a768-00aa006e0529"

var properties = map[string][]string{
	"member": {"bf9679c0-0de6-11d0-a285-00aa003049e2", "bc0ac240-79a9-11d0-9020-00c04fc2d4cf"}, "serviceprincipalname": {"f3a64788-5306-11d1-a9c5-0000f80367c1"},
	"accountexpires": {"bf967915-0de6-11d0-a285-00aa003049e2", accountRestrictions}, "pwdlastset": {"bf967a0a-0de6-11d0-a285-00aa003049e2", accountRestrictions},
	"useraccountcontrol": {"bf967a68-0de6-11d0-a285-00aa003049e2", accountRestrictions},
}

// may reports whether somebody may do something to an entry: who is an Admin may, and whoever
// its descriptor allows it, themselves or through a group.
func (s *Server) may(who, e *Entry, mask uint32, objects ...string) bool {
	if who.Admin {
		return true
	}
	if !s.config.Windows {
		return false
	}
	d, err := descriptor.Parse(s.described(e))
	if err != nil {
		return false
	}
	sids := s.tokenOf(who, time.Time{})
	return slices.ContainsFunc(d.Rules.Entries, func(a descriptor.Entry) bool {
		return !a.Denies() && sids[a.Trustee.String()] && a.Mask&mask == mask && (a.Object == nil || slices.Contains(objects, a.Object.String()))
	})
}

// tokenOf are the identifiers of somebody and of all groups that they lie in, or lay in at a time:
// since when is kept of those that joined by this server.
func (s *Server) tokenOf(who *Entry, at time.Time) map[string]bool {
	in := func(group, e *Entry) *Entry {
		if since, told := group.joined[normal(e.DN)]; told && !at.IsZero() && since.After(at) {
			return nil
		}
		return group
	}
	out := map[string]bool{"S-1-1-0": true, "S-1-5-11": true}
	seen := map[*Entry]bool{}
	for left := []*Entry{who}; len(left) > 0; left = left[1:] {
		e := left[0]
		if e == nil || seen[e] {
			continue
		}
		seen[e] = true
		if raw := e.Attributes["objectSid"]; len(raw) > 0 {
			out[sidOf([]byte(raw[0])).String()] = true
		}
		for _, dn := range e.Attributes["memberOf"] {
			if g := s.entries[normal(dn)]; g != nil {
				left = append(left, in(g, e))
			}
		}
		for _, k := range s.order { // the link has two ends, and either may have been told
			if g := s.entries[k]; slices.ContainsFunc(g.Attributes["member"], func(m string) bool { return normal(m) == normal(e.DN) }) {
				left = append(left, in(g, e))
			}
		}
	}
	return out
}

// Allow gives somebody a right to an entry, as its descriptor tells it: for all rights of a
// mask, or for one right or property. Nothing happens where one of them is not there.
func (s *Server) Allow(dn, to string, mask uint32, object string) {
	s.lock.Lock()
	defer s.lock.Unlock()
	e, who := s.entries[normal(dn)], s.entries[normal(to)]
	if e == nil || who == nil || len(who.Attributes["objectSid"]) == 0 {
		return
	}
	entry := descriptor.Entry{Mask: mask, Trustee: sidOf([]byte(who.Attributes["objectSid"][0]))}
	if guid, err := descriptor.ParseGUID(object); err == nil {
		entry.Type, entry.Object = descriptor.AllowObject, &guid
	}
	e.allowed = append(e.allowed, entry)
	e.Attributes[descriptorAttribute] = []string{string(s.described(e))}
}
