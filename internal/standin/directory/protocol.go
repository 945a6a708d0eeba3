package directory

import (
	"bufio"
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf16"

	ber "github.com/go-asn1-ber/asn1-ber"

	"mossledger.example/moss/internal/core/privilege/descriptor"
)

// LDAP operations (RFC 4511, section 4.2 and following).
const (
	opBindRequest = 0
	opBindReply   = 1
	opUnbind      = 2
	opSearch      = 3
	opSearchEntry = 4
	opSearchDone  = 5
	opModify      = 6
	opModifyReply = 7
	opSearchRef   = 19
	opExtended    = 23
	opExtReply    = 24

	oidPaging         = "1.2.840.113556.1.4.319"
	oidPasswordModify = "1.3.6.1.4.1.4203.1.11.1"
	oidWindows        = "1.2.840.113556.1.4.800"
	oidReadOnly       = "1.2.840.113556.1.4.1920"
)

type client struct {
	*Server
	conn  net.Conn
	who   *Entry
	cut   bool
	pages map[string]int // cookie to offset
	// timedLinks: the search that is answered asks for what is left of links.
	timedLinks bool
}

func (s *Server) serve(conn net.Conn) {
	defer conn.Close()
	c := &client{Server: s, conn: conn, pages: map[string]int{}}
	reader := bufio.NewReader(conn)
	for !c.cut {
		_ = conn.SetReadDeadline(time.Now().Add(5 * time.Minute))
		message, err := ber.ReadPacket(reader)
		if err != nil || len(message.Children) < 2 {
			return
		}
		id, ok := message.Children[0].Value.(int64)
		if !ok || message.Children[1].ClassType != ber.ClassApplication {
			return
		}
		if hang := s.faultNow().Hang; hang != nil {
			<-hang
		}
		op := message.Children[1]
		switch op.Tag {
		case opBindRequest:
			c.doBind(id, op)
		case opUnbind:
			return
		case opSearch:
			var controls *ber.Packet
			if len(message.Children) > 2 {
				controls = message.Children[2]
			}
			c.doSearch(id, op, controls)
		case opModify:
			c.doModify(id, op)
		case opAdd:
			c.doAdd(id, op)
		case opDelete:
			c.doDelete(id, op)
		case opExtended:
			c.doExtended(id, op)
		default:
			c.result(id, opExtReply, 2, "operation is not offered by this directory")
		}
	}
}

func (c *client) send(id int64, op *ber.Packet, controls *ber.Packet) {
	message := ber.NewSequence("message")
	message.AppendChild(ber.NewInteger(ber.ClassUniversal, ber.TypePrimitive, ber.TagInteger, id, "id"))
	message.AppendChild(op)
	if controls != nil {
		message.AppendChild(controls)
	}
	if _, err := c.conn.Write(message.Bytes()); err != nil {
		c.cut = true
	}
}

func outcome(tag ber.Tag, code int, text string) *ber.Packet {
	op := ber.Encode(ber.ClassApplication, ber.TypeConstructed, tag, nil, "result")
	op.AppendChild(ber.NewInteger(ber.ClassUniversal, ber.TypePrimitive, ber.TagEnumerated, int64(code), "code"))
	op.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, "", "matched"))
	op.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, text, "text"))
	return op
}

func (c *client) result(id int64, tag ber.Tag, code int, text string) {
	c.send(id, outcome(tag, code, text), nil)
}

func text(p *ber.Packet) string {
	if p == nil {
		return ""
	}
	if p.Data != nil && p.Data.Len() > 0 {
		return p.Data.String()
	}
	if v, ok := p.Value.(string); ok {
		return v
	}
	return string(p.ByteValue)
}

func (c *client) doBind(id int64, op *ber.Packet) {
	if len(op.Children) != 3 || op.Children[2].Tag != 0 {
		c.result(id, opBindReply, 7, "only simple sign-in is offered")
		return
	}
	name, password := text(op.Children[1]), text(op.Children[2])
	code, words := c.bind(name, password)
	c.who = nil
	if code == 0 && name != "" {
		c.lock.Lock()
		c.who = c.find(name)
		c.lock.Unlock()
	}
	c.result(id, opBindReply, code, words)
}

func (c *client) doModify(id int64, op *ber.Packet) {
	if len(op.Children) != 2 {
		c.result(id, opModifyReply, 2, "malformed modify")
		return
	}
	fault := c.faultNow()
	c.lock.Lock()
	code, words := c.modify(text(op.Children[0]), op.Children[1].Children, fault)
	c.lock.Unlock()
	if fault.LoseAnswer && code == 0 {
		c.cut = true
		return
	}
	c.result(id, opModifyReply, code, words)
}

func (c *client) modify(dn string, changes []*ber.Packet, fault Fault) (int, string) {
	e := c.entries[normal(dn)]
	switch {
	case c.who == nil:
		return 1, "00002020: Operation unavailable without authentication"
	case e == nil:
		return 32, "no such object: " + dn
	}
	var deleted, added string
	for _, change := range changes {
		if len(change.Children) != 2 || len(change.Children[1].Children) != 2 {
			return 2, "malformed change"
		}
		kind, _ := change.Children[0].Value.(int64)
		attribute := text(change.Children[1].Children[0])
		var values []string
		for _, v := range change.Children[1].Children[1].Children {
			values = append(values, text(v))
		}
		if !strings.EqualFold(attribute, "unicodePwd") || !c.config.Windows {
			if !c.may(c.who, e, descriptor.WriteProperty, properties[strings.ToLower(attribute)]...) {
				return 50, "insufficient access rights"
			}
			if code, words := c.assign(e, attribute, kind, values); code != 0 {
				return code, words
			}
			continue
		}
		value := ""
		if len(values) > 0 {
			var ok bool
			if value, ok = unquoteUTF16(values[0]); !ok {
				return 53, "0000001F: SvcErr: unicodePwd is not a quoted UTF-16 value"
			}
		}
		switch kind {
		case 0:
			added = value
		case 1:
			deleted = value
		case 2:
			if !c.may(c.who, e, descriptor.ControlAccess, rightToReset) {
				return 50, "00002098: insufficient access rights to reset the password"
			}
			if fault.ReadOnly {
				return 10, "0000202B: RefErr: DSID-031007F9, data 0, 1 access points"
			}
			if fault.RefuseChange {
				return 53, "the directory is unwilling to change passwords now"
			}
			return c.setPassword(e, value)
		}
	}
	if deleted != "" || added != "" {
		if e.Password != deleted {
			return 19, "00000056: AtrErr: the old password is wrong"
		}
		return c.setPassword(e, added)
	}
	return 0, ""
}

// assign changes an attribute that is no password.
func (c *client) assign(e *Entry, attribute string, kind int64, values []string) (int, string) {
	switch {
	case strings.EqualFold(attribute, "pwdAccountLockedTime"):
		e.Locked = len(values) > 0
	case kind == 1 && len(values) > 0 && !strings.EqualFold(attribute, "member"):
		if !slices.Equal(c.shown(e)[attribute], values) {
			return 16, "00000057: AtrErr: no such value"
		}
		delete(e.Attributes, attribute)
	case strings.EqualFold(attribute, "pwdLastSet") || strings.EqualFold(attribute, "pwdReset"):
		return c.mustChange(e, attribute, strings.Join(values, ""))
	case strings.EqualFold(attribute, "accountExpires") || strings.EqualFold(attribute, "pwdEndTime"):
		return c.setEnd(e, attribute, values)
	case strings.EqualFold(attribute, "userAccountControl") && c.config.Windows:
		uac, err := strconv.Atoi(strings.Join(values, ""))
		if err != nil {
			return 21, "00000057: LdapErr: invalid attribute syntax"
		}
		e.Disabled, e.Never = uac&2 != 0, uac&0x10000 != 0
	case strings.EqualFold(attribute, "member") && kind != 2:
		return c.member(e, kind, values)
	default:
		e.Attributes[attribute] = values
	}
	return 0, ""
}

// members are those of a group: the link has two ends, and either may have been told.
func (s *Server) members(group *Entry) []string {
	s.forget(group)
	out := slices.Clone(group.Attributes["member"])
	for _, k := range s.order {
		e := s.entries[k]
		if slices.ContainsFunc(e.Attributes["memberOf"], func(g string) bool { return normal(g) == normal(group.DN) }) && !slices.ContainsFunc(out, func(m string) bool { return normal(m) == normal(e.DN) }) {
			out = append(out, e.DN)
		}
	}
	return out
}

// member adds to a group, or takes from it, and keeps the other end of the link.
func (c *client) member(group *Entry, kind int64, members []string) (int, string) {
	for _, dn := range members {
		dn, until, timed := c.untilOf(dn)
		other := c.entries[normal(dn)]
		if other == nil {
			return 32, "00002030: NameErr: no object is called " + dn
		}
		has := slices.ContainsFunc(c.members(group), func(m string) bool { return normal(m) == normal(dn) })
		switch {
		case kind == 0 && has:
			return 68, "00000562: the account is a member already"
		case kind == 1 && !has:
			return 53, "00000561: the account is no member"
		case kind == 0:
			group.Attributes["member"] = append(slices.Clone(group.Attributes["member"]), other.DN)
			other.Attributes["memberOf"] = append(slices.Clone(other.Attributes["memberOf"]), group.DN)
			group.joined[normal(other.DN)] = c.config.Now()
			if timed {
				group.timed = append(group.timed, link{other.DN, until})
			}
		default:
			without := func(list []string, gone string) []string {
				return slices.DeleteFunc(slices.Clone(list), func(v string) bool { return normal(v) == normal(gone) })
			}
			group.Attributes["member"], other.Attributes["memberOf"] = without(group.Attributes["member"], dn), without(other.Attributes["memberOf"], group.DN)
		}
	}
	return 0, ""
}

func unquoteUTF16(raw string) (string, bool) {
	if len(raw)%2 != 0 {
		return "", false
	}
	var units []uint16
	for i := 0; i < len(raw); i += 2 {
		units = append(units, uint16(raw[i])|uint16(raw[i+1])<<8)
	}
	out := string(utf16.Decode(units))
	if len(out) < 2 || out[0] != '"' || out[len(out)-1] != '"' {
		return "", false
	}
	return out[1 : len(out)-1], true
}

func (c *client) doExtended(id int64, op *ber.Packet) {
	if len(op.Children) == 0 || text(op.Children[0]) != oidPasswordModify || c.config.Windows {
		c.result(id, opExtReply, 2, "extended operation is not offered by this directory")
		return
	}
	var dn, password string
	if len(op.Children) > 1 {
		inner := ber.DecodePacket([]byte(text(op.Children[1])))
		if inner == nil {
			c.result(id, opExtReply, 2, "malformed request value")
			return
		}
		for _, field := range inner.Children {
			switch field.Tag {
			case 0:
				dn = text(field)
			case 2:
				password = text(field)
			}
		}
	}
	fault := c.faultNow()
	c.lock.Lock()
	code, words := 0, ""
	e := c.entries[normal(dn)]
	switch {
	case c.who == nil || !c.who.Admin && c.who != e:
		code, words = 50, "no right to change this password"
	case e == nil:
		code, words = 32, "no such object"
	case fault.RefuseChange:
		code, words = 53, "the directory is unwilling to change passwords now"
	default:
		code, words = c.setPassword(e, password)
	}
	c.lock.Unlock()
	if fault.LoseAnswer && code == 0 {
		c.cut = true
		return
	}
	c.result(id, opExtReply, code, words)
}

// shown returns an entry's attributes with the computed ones.
func (s *Server) shown(e *Entry) map[string][]string {
	out := make(map[string][]string, len(e.Attributes)+6)
	for k, v := range e.Attributes {
		out[k] = v
	}
	if slices.ContainsFunc(e.Attributes["objectClass"], func(class string) bool { return strings.EqualFold(class, "group") }) {
		if members := s.members(e); len(members) > 0 {
			out["member"] = members
		}
	}
	isAccount := e.Password != ""
	for _, class := range e.Attributes["objectClass"] {
		isAccount = isAccount || strings.EqualFold(class, "user")
	}
	if s.config.Windows && isAccount {
		uac := 512
		if e.Disabled {
			uac |= 2
		}
		if e.Never {
			uac |= 0x10000
		}
		out["userAccountControl"] = []string{strconv.Itoa(uac)}
		computed := 0
		if e.Locked || !e.lockedAt.IsZero() {
			computed |= 0x10
		}
		out["badPwdCount"] = []string{strconv.Itoa(e.wrong)}
		out["badPasswordTime"] = []string{"0"}
		if !e.wrongAt.IsZero() {
			out["badPasswordTime"] = []string{ticks(e.wrongAt)}
		}
		out["msDS-User-Account-Control-Computed"] = []string{strconv.Itoa(computed)}
		if s.passwordEnded(e) {
			computed |= 0x800000
			out["msDS-User-Account-Control-Computed"] = []string{strconv.Itoa(computed)}
		}
		out["pwdLastSet"] = []string{ticks(e.Changed)}
		out["msDS-KeyVersionNumber"] = []string{strconv.Itoa(e.KeyVersion + 1)}
		if e.MustChange {
			out["pwdLastSet"] = []string{"0"}
		}
		expires := "9223372036854775807" // also of what the directory keeps by itself ([MS-ADTS], section 3.1.1.4.5.12)
		if !e.Never && !trusted(e) {
			expires = ticks(e.Changed.Add(maxAge))
		}
		out["msDS-UserPasswordExpiryTimeComputed"] = []string{expires}
		if out["accountExpires"] == nil {
			out["accountExpires"] = []string{"9223372036854775807"}
		}
	}
	if !s.config.Windows && isAccount {
		out["pwdChangedTime"] = []string{e.Changed.UTC().Format("20060102150405Z")}
		if e.Locked {
			out["pwdAccountLockedTime"] = []string{"000001010000Z"}
		}
	}
	return out
}

// trusted are computers, and accounts whose password the directory changes.
func trusted(e *Entry) bool {
	return slices.ContainsFunc(e.Attributes["objectClass"], func(class string) bool {
		return strings.EqualFold(class, "computer") || strings.EqualFold(class, "msDS-GroupManagedServiceAccount")
	})
}

func ticks(t time.Time) string {
	return fmt.Sprint((t.Unix() + 11644473600) * 1e7)
}
