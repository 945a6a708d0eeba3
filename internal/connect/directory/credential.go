package directory

import (
	"context"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/directory/accounts"
	"mossledger.example/moss/internal/connect/directory/policy"
	"mossledger.example/moss/internal/connect/directory/refusal"
	"mossledger.example/moss/internal/connect/directory/values"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/secret"
)

// verifyTime bounds one sign-in as an account.
const verifyTime = 15 * time.Second

// locate finds an account's entry by its stable id, whatever it is called now.
func (s *session) locate(account connect.AccountRef, attributes ...string) (*ldap.Entry, *connect.Failure) {
	filter := "(entryUUID=" + ldap.EscapeFilter(account.StableID) + ")"
	if s.windows() {
		value, err := values.GUIDFilter(account.StableID)
		if err != nil {
			return nil, s.target.Fail(connect.StageRead, connect.CodeGone, err.Error(), "run a survey of this directory", err)
		}
		filter = "(objectGUID=" + value + ")"
	}
	found, f := s.find(s.bases, 2, filter, append(attributes, "cn")...)
	if f != nil {
		return nil, f
	}
	if len(found) != 1 {
		return nil, s.target.Fail(connect.StageRead, connect.CodeGone, "no entry has the id "+account.StableID+" ("+account.Name+")", "the account was deleted, or the steward may not see it: run a survey", nil)
	}
	return found[0], nil
}

// Verify implements connect.Verifier: a bind as the account on a connection of
// its own.
func (Connector) Verify(ctx context.Context, t connect.Target, account connect.AccountRef, value secret.Value) (connect.Verdict, error) {
	if value.Empty() {
		return connect.Verdict{Code: connect.VerdictWrong, Words: "the value is empty: not tried, because an empty password is an anonymous bind"}, nil
	}
	ctx, cancel := context.WithTimeout(ctx, verifyTime)
	defer cancel()
	s, failure := open(ctx, t, connect.NewStopwatch())
	if failure != nil {
		return connect.Verdict{}, failure
	}
	entry, failure := s.locate(account, append([]string{policy.LockAttribute}, counted...)...)
	if failure == nil {
		failure = s.spared(entry, account.Name)
	}
	shut := false
	if failure == nil && !s.windows() {
		shut, failure = s.shut(entry)
	}
	var trials *connect.Trials
	var lingers time.Duration
	if failure == nil {
		trials = policy.TrialsOf(entry)
		if s.windows() {
			lingers = formerPassword
		}
	}
	s.close()
	if failure != nil {
		return connect.Verdict{}, failure
	}
	verdict, failure := bindAs(ctx, t, account, entry, value)
	if failure != nil {
		return connect.Verdict{}, failure
	}
	verdict.Elsewhere = elsewhere(ctx, t, account, entry, value)
	verdict.Trials, verdict.Lingers, verdict.SetAt, verdict.Shut = trials, lingers, policy.SetAt(entry), shut && !verdict.Accepted
	if verdict.Shut {
		verdict.Words += "; it is locked until somebody unlocks it (" + policy.LockAttribute + ")"
	}
	verdict.KeyVersion, _ = strconv.Atoi(entry.GetAttributeValue(keyVersion))
	return verdict, nil
}

// bindAs has a server judge a value by a bind, or, where that says nothing of it, by a
// ticket.
func bindAs(ctx context.Context, t connect.Target, account connect.AccountRef, entry *ldap.Entry, value secret.Value) (connect.Verdict, *connect.Failure) {
	verdict, failure := bind(ctx, t, account, entry, value)
	if failure != nil && failure.Code == connect.CodeUnproven {
		return byTicket(ctx, t, account, value, failure)
	}
	return verdict, failure
}

// bind binds as an account, on a connection of its own.
func bind(ctx context.Context, t connect.Target, account connect.AccountRef, entry *ldap.Entry, value secret.Value) (connect.Verdict, *connect.Failure) {
	conn, failure := secure(ctx, t, connect.NewStopwatch())
	if failure != nil {
		return connect.Verdict{}, failure
	}
	defer conn.close()
	// The password policy control makes a directory say why (draft-behera).
	request := ldap.NewSimpleBindRequest(entry.DN, value.RevealString(), []ldap.Control{ldap.NewControlBeheraPasswordPolicy()})
	res, err := conn.SimpleBind(request)
	policy := ""
	if res != nil {
		if control, ok := ldap.FindControl(res.Controls, ldap.ControlTypeBeheraPasswordPolicy).(*ldap.ControlBeheraPasswordPolicy); ok && control.Error >= 0 {
			policy = control.ErrorString
			switch control.Error {
			case 0:
				return connect.Verdict{Code: connect.VerdictExpired, Words: policy}, nil
			case 1:
				return connect.Verdict{Code: connect.VerdictLocked, Words: policy}, nil
			case 2:
				return connect.Verdict{Accepted: err == nil, Code: connect.VerdictMustChange, Words: policy}, nil
			}
		}
	}
	if err == nil {
		return connect.Verdict{Accepted: true, Words: "bind accepted"}, nil
	}
	if refused := refusal.OfBind(err); refused != nil {
		words := secret.Scrub(refused.Words, value)
		if refused.Code == "" {
			return connect.Verdict{}, t.Fail(connect.StageSignIn, connect.CodeUnproven, words, "that says nothing of the value: allow "+account.Name+" to sign in here at this hour, or have it proven elsewhere", err)
		}
		return connect.Verdict{Code: refused.Code, Words: words}, nil
	}
	return connect.Verdict{}, refusal.Failure(t, connect.StageSignIn, err, value)
}

// formerPassword is how long a directory of the windows schema lets an account bind with
// the password before its present one, where nobody set another time.
const formerPassword = time.Hour

// Accept implements connect.Accepter: an entry has one password.
func (Connector) Accept(ctx context.Context, target connect.Target, point connect.Point, values connect.Values, want connect.Accepted) error {
	if point.Turns() {
		return acceptTurn(ctx, target, point, values, want)
	}
	former := values.Old
	if want == connect.AcceptOld {
		former = values.New
	}
	return connect.ReplacePassword(target, values, want, func(value secret.Value) error { return setPassword(ctx, target, point.Account, value, former) })
}

// Probe implements connect.Accepter.
func (c Connector) Probe(ctx context.Context, target connect.Target, point connect.Point, values connect.Values) (connect.Probed, error) {
	return connect.ProbePassword(ctx, c, target, point, values)
}

// setPassword is a replace of unicodePwd in the Windows schema, the password modify
// operation (RFC 3062) elsewhere. The former value is given only where the policy asks
// for it.
func setPassword(ctx context.Context, t connect.Target, account connect.AccountRef, value, former secret.Value) error {
	if value.Empty() {
		return t.Fail(connect.StageChange, connect.CodePolicy, "the new value is empty", "", nil)
	}
	s, failure := open(ctx, t, connect.NewStopwatch())
	if failure != nil {
		failure.Unclear = false // the change was not sent
		return failure
	}
	defer s.close()
	entry, failure := s.locate(account, append([]string{"pwdAccountLockedTime", "pwdPolicySubentry", "pwdChangedTime"}, policy.Guarding...)...)
	if failure == nil {
		failure = s.guarded(entry, account.Name)
	}
	if failure != nil {
		return failure
	}
	var lock estate.Tristate
	if entry.GetAttributeValue(policy.LockAttribute) != "" {
		if lock, failure = s.lockNow(entry); failure != nil {
			return failure // nothing was changed
		}
	}
	var err error
	if s.windows() {
		modify := ldap.NewModifyRequest(entry.DN, nil)
		modify.Replace("unicodePwd", []string{values.QuotedUTF16(value)})
		err = s.conn.Modify(modify)
	} else {
		given := ""
		if rules, failure := s.changeRules(entry); failure == nil && rules.Certain && rules.Safe {
			given = former.RevealString()
		}
		_, err = s.conn.PasswordModify(ldap.NewPasswordModifyRequest(entry.DN, given, value.RevealString()))
	}
	if err != nil {
		f := refusal.Failure(t, connect.StageChange, err, value, former, t.Steward.Password)
		if s.windows() && strings.Contains(f.Words, "0000052D") {
			f.Code, f.Next = connect.CodePolicy, "the domain's password policy refused the value: length, complexity or age"
		}
		return f
	}
	return s.restoreLock(entry, lock)
}

// restoreLock puts back an administrator's lock, which a reset silently
// removes in directories with the password policy overlay. One for a time that
// has run out is left away; an administrator's is put back whatever the policies
// that are shown say of it.
func (s *session) restoreLock(entry *ldap.Entry, lock estate.Tristate) error {
	locked := entry.GetAttributeValue("pwdAccountLockedTime")
	if s.windows() || locked == "" || lock == estate.No && locked != policy.LockedForGood {
		return nil
	}
	modify := ldap.NewModifyRequest(entry.DN, nil)
	modify.Replace("pwdAccountLockedTime", []string{locked})
	if err := s.conn.Modify(modify); err != nil {
		f := s.fail(connect.StageChange, err)
		f.Unclear = true // the password did change
		f.Next = "the password was changed and the account's lock is gone: lock it again by hand"
		return f
	}
	return nil
}

// Rehearse implements connect.Rehearser.
func (Connector) Rehearse(ctx context.Context, t connect.Target, intentions []connect.Intention) []connect.Checked {
	s, failure := open(ctx, t, connect.NewStopwatch())
	if failure != nil {
		return []connect.Checked{{System: t.Name, What: "reach the directory", Result: connect.CheckFailed, Words: failure.Words, Next: failure.Next}}
	}
	defer s.close()
	out := []connect.Checked{{System: t.Name, What: "reach the directory and sign in", Result: connect.CheckOK}}
	if slices.Contains(s.root.GetAttributeValues("supportedCapabilities"), capabilityReadOnly) {
		out = append(out, connect.Checked{
			System: t.Name, What: "a server that takes changes", Result: connect.CheckFailed, Words: s.root.GetAttributeValue("dnsHostName") + " is a read-only controller: it refers changes to another one, and learns of them later",
			Next: "give a writable controller as the address of this system",
		})
	}
	for _, intention := range intentions {
		switch {
		case intention.Change == nil:
		case intention.Turn != nil:
			out = append(out, s.rehearseTurn(connect.Point{Account: *intention.Turn, Next: *intention.Change})...)
		default:
			out = append(out, s.rehearseChange(ctx, *intention.Change)...)
		}
	}
	return out
}

func (s *session) rehearseChange(ctx context.Context, account connect.AccountRef) []connect.Checked {
	name := s.target.Name
	attributes := append([]string{"msDS-User-Account-Control-Computed", "pwdAccountLockedTime", "pwdChangedTime"}, policy.Guarding...)
	entry, failure := s.locate(account, append(attributes, counted...)...)
	if failure != nil {
		return []connect.Checked{{System: name, What: "find the account", Result: connect.CheckFailed, Words: failure.Words, Next: failure.Next}}
	}
	out := []connect.Checked{{System: name, What: "find the account", Result: connect.CheckOK, Words: entry.DN}}
	out = append(append(out, s.rehearseGuard(entry)...), s.rehearseLockout(entry))
	out = append(out, s.rehearseServers(ctx, account, entry)...)
	if s.windows() {
		a, _ := accounts.Windows(entry)
		if a.Enabled == "no" {
			out = append(out, connect.Checked{System: name, What: "account enabled", Result: connect.CheckFailed, Words: "the account is disabled", Next: "enable it first: no sign-in can be proven while it is disabled"})
		}
		if a.Locked == "yes" {
			out = append(out, connect.Checked{System: name, What: "account not locked", Result: connect.CheckFailed, Words: "the account is locked", Next: "unlock it first: no sign-in can be proven while it is locked"})
		}
		out = append(out, connect.Checked{System: name, What: "old value refused at once", Result: connect.CheckUnchecked, Words: "a directory of this kind may accept the previous password for up to an hour after the change; what is accepted then is asked for again when that is over"})
	} else {
		out = append(out, s.rehearseLock(entry))
		out = append(out, s.rehearseChangeRules(entry, s.now())...)
	}
	return append(out, connect.Checked{System: name, What: "right to reset the password", Result: connect.CheckUnchecked, Words: "a directory tells this only when it is done"})
}

func (s *session) rehearseLock(entry *ldap.Entry) connect.Checked {
	check := connect.Checked{System: s.target.Name, What: "account not locked", Result: connect.CheckOK}
	lock, failure := s.lockNow(entry)
	switch {
	case failure != nil:
		check.Result, check.Words, check.Next = connect.CheckFailed, failure.Words, failure.Next
	case lock == estate.Yes:
		check.Result, check.Words, check.Next = connect.CheckFailed, "the account is locked", "unlock it first: no sign-in can be proven while it is locked"
	case lock == estate.Unknown:
		check.Result, check.Words, check.Next = connect.CheckWarning, "whether the account is locked cannot be read", "grant the steward the right to read pwdAccountLockedTime and the password policies; no sign-in can be proven while it is locked"
	}
	return check
}
