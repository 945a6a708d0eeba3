package directory

import "mossledger.example/moss/internal/core/privilege/descriptor"

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

// Allow gives somebody a right to an entry, as its descriptor tells it: for all rights of a
// mask, or for one right or property. Nothing happens where one of them is not there. What
// the stand-in itself lets somebody change does not follow from it: that is Admin.
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
