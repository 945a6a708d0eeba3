package directory

import (
	"slices"
	"strconv"
	"strings"
	"time"

	ber "github.com/go-asn1-ber/asn1-ber"

	"mossledger.example/moss/internal/core/privilege/descriptor"
)

// Tags of the operation that deletes (RFC 4511, section 4.8).
const (
	opDelete      = 10
	opDeleteReply = 11
)

const neverTicks = 9223372036854775807

// end is when an account ends; the zero time for never.
func (e *Entry) end() time.Time {
	if text := strings.Join(e.Attributes["accountExpires"], ""); text != "" {
		if n, err := strconv.ParseInt(text, 10, 64); err == nil && n > 0 && n < neverTicks {
			return time.Unix(n/1e7-11644473600, n%1e7*100)
		}
	}
	at, _ := time.Parse("20060102150405Z", strings.Join(e.Attributes["pwdEndTime"], ""))
	return at
}

// ended: its end has passed.
func (e *Entry) ended(now time.Time) bool {
	end := e.end()
	return e.Expired || !end.IsZero() && !now.Before(end)
}

// setEnd writes when an account ends.
func (c *client) setEnd(e *Entry, attribute string, values []string) (int, string) {
	text := strings.Join(values, "")
	_, number := strconv.ParseInt(text, 10, 64)
	_, moment := time.Parse("20060102150405Z", text)
	if text != "" && (c.config.Windows && number != nil || !c.config.Windows && moment != nil) {
		return 21, "00000057: LdapErr: invalid attribute syntax"
	}
	if text == "" {
		delete(e.Attributes, attribute)
		return 0, ""
	}
	e.Attributes[attribute] = values
	return 0, ""
}

// mustChange has the password changed at the next sign-in, or takes that back: no other values
// may be written ([MS-ADTS], section 3.1.1.5.3.2).
func (c *client) mustChange(e *Entry, attribute, value string) (int, string) {
	if !c.config.Windows {
		e.MustChange = value == "TRUE"
		delete(e.Attributes, attribute)
		if value != "" {
			e.Attributes[attribute] = []string{value}
		}
		return 0, ""
	}
	switch value {
	case "0":
		e.MustChange = true
	case "-1":
		if e.MustChange {
			e.MustChange, e.Changed = false, c.config.Now()
		}
	default:
		return 53, "00000057: SvcErr: the value cannot be written"
	}
	return 0, ""
}

func (c *client) doDelete(id int64, op *ber.Packet) {
	fault := c.faultNow()
	c.lock.Lock()
	code, words := c.remove(text(op))
	c.lock.Unlock()
	if fault.LoseAnswer && code == 0 {
		c.cut = true
		return
	}
	c.result(id, opDeleteReply, code, words)
}

// remove deletes an entry that has nothing below it.
func (c *client) remove(dn string) (int, string) {
	key := normal(dn)
	e := c.entries[key]
	switch {
	case c.who == nil:
		return 1, "00002020: Operation unavailable without authentication"
	case e == nil:
		return 32, "no such object: " + dn
	case !c.may(c.who, e, descriptor.Delete):
		return 50, "insufficient access rights"
	case slices.ContainsFunc(c.order, func(other string) bool { return strings.HasSuffix(other, ","+key) }):
		return 66, "it has entries below it"
	}
	delete(c.entries, key)
	c.order = slices.DeleteFunc(c.order, func(other string) bool { return other == key })
	return 0, ""
}
