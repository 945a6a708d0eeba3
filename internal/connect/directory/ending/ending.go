// Package ending knows how directories keep when an account ends, and what they say to whoever
// comes afterwards.
//
// In the windows schema an account has a moment (accountExpires), a password one at which it
// was set, which is none when it must be changed (pwdLastSet), and a bit says that the account
// is disabled ([MS-ADTS], sections 3.1.1.8.10 and 5.1.3.4). Elsewhere the attributes are those
// of password policies (draft-behera-ldap-password-policy-10, sections 5.3.3, 5.3.7, 5.3.10).
package ending

import (
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/directory/accounts"
	"mossledger.example/moss/internal/connect/directory/policy"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/expiry"
)

// Possible are the acts on directories.
var Possible = []expiry.Possible{
	{Act: expiry.SetEnd, Of: expiry.Account, How: "accountExpires, or pwdEndTime"},
	{Act: expiry.Extend, Of: expiry.Account, How: "accountExpires, or pwdEndTime"},
	{Act: expiry.Expire, Of: expiry.Account, How: "accountExpires, or pwdEndTime, at this moment"},
	{Act: expiry.Expire, Of: expiry.Password, How: "pwdLastSet 0, or pwdReset: it must be changed"},
	{Act: expiry.Disable, Of: expiry.Account, How: "userAccountControl, or pwdAccountLockedTime for good"},
	{Act: expiry.Enable, Of: expiry.Account, How: "userAccountControl, or pwdAccountLockedTime"},
	{Act: expiry.Delete, Of: expiry.Account, How: "its entry is deleted"},
}

const (
	neverTime = "9223372036854775807" // 0x7FFFFFFFFFFFFFFF ([MS-ADA1], section 2.1)
	forGood   = "000001010000Z"       // locked until somebody unlocks it
	disabled  = 0x2
)

// Plan is a change of an entry.
type Plan struct {
	connect.Ending
	Modify  []ldap.Change // nothing when the entry is deleted
	Delete  bool
	Refused string // why it would do nothing, or harm; "" when it may be done
	Undone  bool   // nothing has to be taken back
}

// Judge holds a plan against the password policies: when the password ends by them, and whether
// what is planned would be in force. By a policy that is not shown nothing is (policy.LockRules).
func (p *Plan) Judge(e *ldap.Entry, c expiry.EndChange, rules policy.LockRules) {
	if c.Of == expiry.Password && p.Now.State == expiry.Unknown {
		p.Now = rules.Ends(e)
	}
	locked := ldap.NewEntry(e.DN, map[string][]string{policy.LockAttribute: {forGood}, "pwdPolicySubentry": e.GetEqualFoldAttributeValues("pwdPolicySubentry")})
	switch {
	case c.Act == expiry.Expire && c.Of == expiry.Password && !rules.MakesChange(e):
		p.Refused = "no password policy that can be read makes anybody change a password that was reset (pwdMustChange): it would go on being accepted"
	case c.Act == expiry.Disable && rules.State(locked, time.Time{}) != estate.Yes:
		p.Refused = "no password policy that can be read locks it (pwdLockout): it would go on being accepted"
	default:
		return
	}
	p.InForce = false // even where it is written already
}

// Of makes the plan of a change. now is the directory's clock.
func Of(e *ldap.Entry, windows bool, c expiry.EndChange, now time.Time) Plan {
	if windows {
		return ofWindows(e, c, now)
	}
	return ofPlain(e, c, now)
}

func replace(name string, list ...string) ldap.Change {
	return ldap.Change{Operation: ldap.ReplaceAttribute, Modification: ldap.PartialAttribute{Type: name, Vals: list}}
}

// swap changes a value only while it is what was read: who is quicker wins, and is not
// overwritten.
func swap(name, from, to string) []ldap.Change {
	return []ldap.Change{
		{Operation: ldap.DeleteAttribute, Modification: ldap.PartialAttribute{Type: name, Vals: []string{from}}},
		{Operation: ldap.AddAttribute, Modification: ldap.PartialAttribute{Type: name, Vals: []string{to}}},
	}
}

// formerOf keeps the values of one attribute.
func formerOf(e *ldap.Entry, name string) string {
	raw, err := json.Marshal(map[string][]string{name: e.GetEqualFoldAttributeValues(name)})
	if err != nil {
		return "" // they are texts
	}
	return string(raw)
}

// Back makes the plan of taking a change back: what it wrote gets the values that it had.
func Back(e *ldap.Entry, windows bool, c expiry.EndChange, now time.Time) (Plan, error) {
	p := Of(e, windows, c, now)
	if !p.There {
		p.Modify = nil
		// What has two states only is in the former one. A moment may be a third one's.
		p.Undone = c.Of == expiry.Password || c.Act == expiry.Disable || c.Act == expiry.Enable || p.Former == c.Former
		return p, nil
	}
	if windows && (c.Act == expiry.Disable || c.Act == expiry.Enable) {
		other := map[expiry.Act]expiry.Act{expiry.Disable: expiry.Enable, expiry.Enable: expiry.Disable}[c.Act]
		c.Act = other
		p.Modify = Of(e, windows, c, now).Modify
		return p, nil
	}
	var former map[string][]string
	if err := json.Unmarshal([]byte(c.Former), &former); err != nil {
		return p, fmt.Errorf("how it stood before is not readable: %w", err)
	}
	p.Modify = nil
	for name, list := range former {
		if strings.EqualFold(name, "pwdLastSet") && !slices.Equal(list, []string{"0"}) {
			list = []string{"-1"} // the only other value that may be written: it counts as set now
		}
		p.Modify = append(p.Modify, replace(name, list...))
	}
	return p, nil
}

func ofWindows(e *ldap.Entry, c expiry.EndChange, now time.Time) (p Plan) {
	a, _ := accounts.Windows(e)
	switch {
	case c.Act == expiry.Disable || c.Act == expiry.Enable:
		was := e.GetEqualFoldAttributeValue("userAccountControl")
		bits, err := strconv.ParseInt(was, 10, 64)
		if err != nil {
			p.Refused = "its userAccountControl cannot be read: " + was
			return p
		}
		p.There = a.Enabled == estate.Known(c.Act == expiry.Enable)
		p.InForce = a.Enabled == estate.No
		p.Words = "userAccountControl is " + was + ": it is " + map[bool]string{true: "enabled", false: "disabled"}[bits&disabled == 0]
		if !p.There {
			p.Modify = swap("userAccountControl", was, strconv.FormatInt(bits^disabled, 10))
		}
	case c.Act == expiry.Delete:
		p.Delete, p.Words = true, e.DN+" is there"
		p.Final = "the entry is gone with its SID and its memberships: one that is made anew under its name is another account"
	case c.Of == expiry.Password:
		p.Now, p.Former = passwordEnd(a), formerOf(e, "pwdLastSet")
		p.There, p.InForce = a.MustChange, a.MustChange
		p.Words = "pwdLastSet is " + e.GetEqualFoldAttributeValue("pwdLastSet")
		p.Will = expiry.End{State: expiry.Ended}
		p.Modify = []ldap.Change{replace("pwdLastSet", "0")}
		p.Also = []string{"undoing has the password count as set at that moment: when it was set before cannot be written"}
		switch {
		case a.NeverExpire:
			p.Refused = "its password never expires (userAccountControl): that it must be changed would not be in force"
		case a.Type != "user":
			p.Refused = "the directory changes the password of this account by itself"
		}
	default:
		p.moment(e, "accountExpires", accountEnd(a), c, now, FileTime, neverTime)
		p.Now = accountEnd(a)
		p.There = settled(p.Now, p.Will, c, now)
		p.InForce = p.Now.Past(now)
	}
	if refuse, ask := policy.Guard(e); c.Act.Takes() {
		if strings.HasSuffix(a.SID, "-502") || strings.EqualFold(a.Name, "krbtgt") {
			p.Refused = refuse
		}
		if ask != "" {
			p.Also = append(p.Also, ask)
		}
	}
	p.Sights = windowsSights(c)
	return p
}

// moment plans the writing of one.
func (p *Plan) moment(e *ldap.Entry, name string, is expiry.End, c expiry.EndChange, now time.Time, write func(time.Time) string, never ...string) {
	p.Will = c.End
	if c.Act == expiry.Expire {
		p.Will = expiry.At(now.Truncate(time.Second))
	}
	p.Former = formerOf(e, name)
	p.Words = name + " is " + strings.Join(e.GetEqualFoldAttributeValues(name), "")
	if is.State == expiry.Ends {
		p.Words += " (" + is.String() + ")"
	}
	if len(e.GetEqualFoldAttributeValues(name)) == 0 {
		p.Words = "it has no " + name
	}
	if p.Will.State == expiry.Never {
		p.Modify = []ldap.Change{replace(name, never...)}
		return
	}
	p.Modify = []ldap.Change{replace(name, write(p.Will.At))}
}

// settled: the end is as the change wants it.
func settled(is, will expiry.End, c expiry.EndChange, now time.Time) bool {
	if c.Act == expiry.Expire {
		return is.Past(now)
	}
	return is.Same(will)
}

// FileTime writes a moment as 100-nanosecond steps since 1601 ([MS-DTYP], section 2.3.3).
func FileTime(t time.Time) string {
	const epoch = 11644473600 // seconds from 1601 to 1970
	return strconv.FormatInt((t.Unix()+epoch)*1e7+int64(t.Nanosecond()/100), 10)
}

func accountEnd(a estate.Account) expiry.End {
	if a.AccountExpires.IsZero() {
		return expiry.End{State: expiry.Never}
	}
	return expiry.At(a.AccountExpires)
}

func passwordEnd(a estate.Account) expiry.End {
	switch {
	case a.MustChange:
		return expiry.End{State: expiry.Ended, Why: "it must be changed"}
	case a.NeverExpire:
		return expiry.End{State: expiry.Never}
	}
	return expiry.At(a.PasswordExpires)
}

func ofPlain(e *ldap.Entry, c expiry.EndChange, now time.Time) (p Plan) {
	a, _ := accounts.RFC(e)
	switch {
	case c.Act == expiry.Disable || c.Act == expiry.Enable:
		lock := e.GetEqualFoldAttributeValue("pwdAccountLockedTime")
		shut := lock == forGood
		p.There, p.InForce, p.Former = shut == (c.Act == expiry.Disable), shut, formerOf(e, "pwdAccountLockedTime")
		p.Words = "it has no pwdAccountLockedTime"
		if lock != "" {
			p.Words = "pwdAccountLockedTime is " + lock
		}
		if c.Act == expiry.Enable {
			p.There = lock == ""
			p.Modify = []ldap.Change{replace("pwdAccountLockedTime")}
		} else {
			p.Modify = []ldap.Change{replace("pwdAccountLockedTime", forGood)}
		}
	case c.Act == expiry.Delete:
		p.Delete, p.Words = true, e.DN+" is there"
		p.Final = "the entry is gone with its entryUUID: one that is made anew under its name is another account"
	case c.Of == expiry.Password:
		p.Former, p.There, p.InForce = formerOf(e, "pwdReset"), a.MustChange, a.MustChange
		p.Now, p.Will = passwordEnd(a), expiry.End{State: expiry.Ended}
		p.Words = "it has no pwdReset"
		if v := e.GetEqualFoldAttributeValue("pwdReset"); v != "" {
			p.Words = "pwdReset is " + v
		}
		p.Modify = []ldap.Change{replace("pwdReset", "TRUE")}
	default:
		p.moment(e, "pwdEndTime", accountEnd(a), c, now, func(t time.Time) string { return t.UTC().Format("20060102150405Z") })
		p.Now = accountEnd(a)
		p.There = settled(p.Now, p.Will, c, now)
		p.InForce = p.Now.Past(now)
	}
	p.Sights = plainSights(c)
	return p
}

// Sought are the attributes to ask for.
func Sought(windows bool) []string {
	if windows {
		return append(slices.Clone(accounts.WindowsAttributes), policy.Guarding...)
	}
	return accounts.PlainAttributes
}
