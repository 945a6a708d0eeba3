package directory

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	ber "github.com/go-asn1-ber/asn1-ber"
)

func (c *client) doSearch(id int64, op *ber.Packet, controls *ber.Packet) {
	fault := c.faultNow()
	if fault.Garbage {
		_, _ = c.conn.Write([]byte("HTTP/1.0 400 Bad Request\r\n\r\nthis is not a directory"))
		c.cut = true
		return
	}
	if len(op.Children) != 8 {
		c.result(id, opSearchDone, 2, "malformed search")
		return
	}
	base := text(op.Children[0])
	scope, _ := op.Children[1].Value.(int64)
	var wanted []string
	for _, a := range op.Children[7].Children {
		wanted = append(wanted, text(a))
	}
	c.timedLinks = asksTimes(controls)
	found, code, words := c.search(base, scope, op.Children[6], wanted)
	if code != 0 {
		c.result(id, opSearchDone, code, words)
		return
	}
	size, cookie := paging(controls)
	start := 0
	if cookie != "" {
		var ok bool
		if start, ok = c.pages[cookie]; !ok {
			c.result(id, opSearchDone, 53, "unknown paging cookie")
			return
		}
		delete(c.pages, cookie)
	}
	end := len(found)
	if size > 0 && start+size < end {
		end = start + size
	}
	for i := start; i < end; i++ {
		if fault.CutAfterEntries > 0 && i >= fault.CutAfterEntries {
			c.cut = true
			return
		}
		c.entry(id, found[i], wanted)
	}
	if fault.Referral != "" {
		ref := ber.Encode(ber.ClassApplication, ber.TypeConstructed, opSearchRef, nil, "referral")
		ref.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, fault.Referral, "uri"))
		c.send(id, ref, nil)
	}
	var reply *ber.Packet
	if size > 0 {
		next := ""
		if end < len(found) {
			next = fmt.Sprintf("page-%d-%d", id, end)
			c.pages[next] = end
		}
		reply = pagingReply(next)
	}
	c.send(id, outcome(opSearchDone, 0, ""), reply)
}

// search collects matching entries. Passwords are never part of what is shown.
func (c *client) search(base string, scope int64, filter *ber.Packet, wanted []string) ([]shownEntry, int, string) {
	c.lock.Lock()
	defer c.lock.Unlock()
	if base == "" && scope == 0 {
		return []shownEntry{{"", c.rootEntry()}}, 0, ""
	}
	if c.who == nil {
		return nil, 1, "000004DC: LdapErr: a successful sign-in is needed before searching"
	}
	key := normal(base)
	if c.entries[key] == nil {
		return nil, 32, "no such object: " + base
	}
	c.forgetAll()
	var out []shownEntry
	for _, k := range c.order {
		inside := k == key
		switch scope {
		case 1:
			inside = strings.HasSuffix(k, ","+key) && !strings.Contains(strings.TrimSuffix(k, ","+key), ",")
		case 2:
			inside = inside || strings.HasSuffix(k, ","+key)
		}
		e := c.entries[k]
		if !inside || c.hidden(e) {
			continue
		}
		shown := c.shown(e)
		if c.timedLinks {
			c.withTimes(e, shown)
		}
		if matches(filter, shown) {
			c.construct(e, shown, wanted)
			out = append(out, shownEntry{e.DN, shown})
		}
	}
	return out, 0, ""
}

type shownEntry struct {
	dn         string
	attributes map[string][]string
}

func (s *Server) rootEntry() map[string][]string {
	root := map[string][]string{
		"objectClass": {"top"}, "namingContexts": {s.config.Base}, "supportedLDAPVersion": {"3"},
		"supportedControl": {oidPaging, oidTimes}, "vendorVersion": {"stand-in"},
	}
	if s.config.Windows {
		root["supportedCapabilities"] = []string{oidWindows}
		if s.fault.ReadOnly {
			root["supportedCapabilities"] = append(root["supportedCapabilities"], oidReadOnly)
		}
		root["currentTime"] = []string{s.config.Now().UTC().Format("20060102150405.0Z")}
		root["defaultNamingContext"] = []string{s.config.Base}
		root["configurationNamingContext"] = []string{s.configuration()}
		s.rootLevels(root)
	} else {
		root["supportedExtension"] = []string{oidPasswordModify}
	}
	return root
}

func (c *client) entry(id int64, e shownEntry, wanted []string) {
	op := ber.Encode(ber.ClassApplication, ber.TypeConstructed, opSearchEntry, nil, "entry")
	op.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, e.dn, "dn"))
	list := ber.NewSequence("attributes")
	for name, values := range e.attributes {
		if !asked(name, wanted) || name == descriptorAttribute && !slices.ContainsFunc(wanted, func(w string) bool { return strings.EqualFold(w, name) }) {
			continue
		}
		one := ber.NewSequence("attribute")
		one.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, name, "name"))
		set := ber.Encode(ber.ClassUniversal, ber.TypeConstructed, ber.TagSet, nil, "values")
		for _, v := range values {
			set.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, v, "value"))
		}
		one.AppendChild(set)
		list.AppendChild(one)
	}
	op.AppendChild(list)
	c.send(id, op, nil)
}

func asked(name string, wanted []string) bool {
	if len(wanted) == 0 {
		return true
	}
	for _, w := range wanted {
		if w == "*" || w == "+" || strings.EqualFold(w, name) {
			return true
		}
	}
	return false
}

// paging reads the simple paged results control (RFC 2696).
func paging(controls *ber.Packet) (int, string) {
	if controls == nil {
		return 0, ""
	}
	for _, control := range controls.Children {
		if len(control.Children) < 2 || text(control.Children[0]) != oidPaging {
			continue
		}
		inner := ber.DecodePacket([]byte(text(control.Children[len(control.Children)-1])))
		if inner == nil || len(inner.Children) != 2 {
			return 0, ""
		}
		size, _ := inner.Children[0].Value.(int64)
		return int(size), text(inner.Children[1])
	}
	return 0, ""
}

func pagingReply(cookie string) *ber.Packet {
	value := ber.NewSequence("value")
	value.AppendChild(ber.NewInteger(ber.ClassUniversal, ber.TypePrimitive, ber.TagInteger, int64(0), "size"))
	value.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, cookie, "cookie"))
	control := ber.NewSequence("control")
	control.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, oidPaging, "type"))
	control.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, string(value.Bytes()), "value"))
	list := ber.Encode(ber.ClassContext, ber.TypeConstructed, 0, nil, "controls")
	list.AppendChild(control)
	return list
}

// matches evaluates a filter (RFC 4511, section 4.5.1.7).
func matches(f *ber.Packet, attributes map[string][]string) bool {
	switch f.Tag {
	case 0:
		for _, sub := range f.Children {
			if !matches(sub, attributes) {
				return false
			}
		}
		return true
	case 1:
		for _, sub := range f.Children {
			if matches(sub, attributes) {
				return true
			}
		}
		return false
	case 2:
		return len(f.Children) == 1 && !matches(f.Children[0], attributes)
	case 7:
		return len(values(attributes, text(f))) > 0
	case 3, 5, 6, 8:
		if len(f.Children) != 2 {
			return false
		}
		want := text(f.Children[1])
		for _, v := range values(attributes, text(f.Children[0])) {
			if f.Tag == 3 && strings.HasPrefix(want, "S-1-") && sidOf([]byte(v)).String() == want || compare(int(f.Tag), v, want) {
				return true
			}
		}
	case 4:
		if len(f.Children) != 2 {
			return false
		}
		for _, v := range values(attributes, text(f.Children[0])) {
			if substrings(strings.ToLower(v), f.Children[1].Children) {
				return true
			}
		}
	}
	return false
}

func values(attributes map[string][]string, name string) []string {
	for k, v := range attributes {
		if strings.EqualFold(k, name) {
			return v
		}
	}
	return nil
}

func compare(tag int, have, want string) bool {
	if tag == 3 || tag == 8 {
		return strings.EqualFold(have, want) || have == want
	}
	a, errA := strconv.ParseInt(have, 10, 64)
	b, errB := strconv.ParseInt(want, 10, 64)
	if errA != nil || errB != nil {
		return tag == 5 && have >= want || tag == 6 && have <= want
	}
	return tag == 5 && a >= b || tag == 6 && a <= b
}

func substrings(have string, parts []*ber.Packet) bool {
	for _, part := range parts {
		want := strings.ToLower(text(part))
		switch part.Tag {
		case 0:
			if !strings.HasPrefix(have, want) {
				return false
			}
			have = have[len(want):]
		case 1:
			i := strings.Index(have, want)
			if i < 0 {
				return false
			}
			have = have[i+len(want):]
		case 2:
			if !strings.HasSuffix(have, want) {
				return false
			}
		}
	}
	return true
}
