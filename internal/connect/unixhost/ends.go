package unixhost

import (
	"context"
	"encoding/json"
	"strings"
	"time"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/expiry"
)

// possible are the acts about ends. A host keeps whole days, counted in UTC: on the day that
// is written the account is refused already (shadow(5)).
var possible = []expiry.Possible{
	{Act: expiry.SetEnd, Of: expiry.Account, How: "usermod -e: whole days in UTC"},
	{Act: expiry.SetEnd, Of: expiry.Key, How: "expiry-time= of the entry in authorized_keys"},
	{Act: expiry.Extend, Of: expiry.Account, How: "usermod -e"},
	{Act: expiry.Extend, Of: expiry.Key, How: "expiry-time="},
	{Act: expiry.Expire, Of: expiry.Account, How: "usermod -e with this day"},
	{Act: expiry.Expire, Of: expiry.Password, How: "chage -d 0: it must be changed"},
	{Act: expiry.Expire, Of: expiry.Key, How: "expiry-time= this moment"},
	{Act: expiry.Disable, Of: expiry.Account, How: "usermod -L -e 1970-01-02: the password is locked, and keys are refused too"},
	{Act: expiry.Enable, Of: expiry.Account, How: "usermod -U -e -1"},
	{Act: expiry.Delete, Of: expiry.Account, How: "userdel: its files stay"},
	{Act: expiry.Delete, Of: expiry.Key, How: "the entry is removed from authorized_keys"},
}

// life is how the host keeps the end of an account.
type life struct {
	Ends    string    `json:"ends"`   // a day; "" for never
	Locked  bool      `json:"locked"` // its password
	Changed string    `json:"changed,omitempty"`
	must    bool      // the password must be changed
	today   time.Time // of the host, in UTC
}

const noEnd = "-1"

// readLife asks chage, which shows no hash, and passwd.
func (s *host) readLife(ctx context.Context, change expiry.EndChange) (life, *connect.Failure) {
	var l life
	if failure := s.sameUser(ctx, connect.StageRead, connect.AccountRef{Name: change.Name, StableID: change.ID}); failure != nil {
		return l, failure
	}
	chage, failure := s.sudoOutput(ctx, connect.StageRead, "/usr/bin/chage", "-l", "-i", change.Name)
	if failure != nil && failure.Code == connect.CodeFailed { // before shadow 4.7 it knows no option for ISO dates
		chage, failure = s.sudoOutput(ctx, connect.StageRead, "/usr/bin/chage", "-l", change.Name)
	}
	if failure != nil {
		return l, failure
	}
	for line := range strings.Lines(chage) {
		key, value, _ := strings.Cut(line, ":")
		value = strings.TrimSpace(value)
		switch strings.ToLower(strings.TrimSpace(key)) {
		case "account expires":
			l.Ends = dateOf(value)
		case "last password change":
			l.Changed = dateOf(value)
			l.must = strings.Contains(value, "must be changed")
		}
	}
	states, failure := s.sudoOutput(ctx, connect.StageRead, "/usr/bin/passwd", "-S", "-a")
	if failure != nil && failure.Code == connect.CodeFailed { // that of the RHEL family up to 9 tells one at a time
		states, failure = s.sudoOutput(ctx, connect.StageRead, "/usr/bin/passwd", "-S", change.Name)
	}
	if failure != nil {
		return l, failure
	}
	for line := range strings.Lines(states) {
		if f := strings.Fields(line); len(f) > 1 && f[0] == change.Name {
			l.Locked = f[1] == "L" || f[1] == "LK"
		}
	}
	day, failure := s.Output(ctx, connect.StageRead, "/usr/bin/date", "-u", "+%F")
	if failure != nil {
		return l, failure
	}
	today, err := time.Parse(time.DateOnly, strings.TrimSpace(string(day)))
	if err != nil {
		return l, s.Target.Fail(connect.StageRead, connect.CodeProtocol, "date says "+string(day), "", err)
	}
	l.today = today
	return l, nil
}

// dateOf is the day that chage tells, in one of its forms; "" when it tells none.
func dateOf(text string) string {
	for _, form := range []string{time.DateOnly, "Jan 02, 2006", "Jan _2, 2006"} {
		if day, err := time.Parse(form, text); err == nil {
			return day.Format(time.DateOnly)
		}
	}
	return ""
}

func (s *host) sudoOutput(ctx context.Context, stage connect.Stage, argv ...string) (string, *connect.Failure) {
	r := s.Sudo(ctx, nil, argv...)
	return string(r.Out), s.Failure(stage, r, strings.Join(argv, " "))
}

func (l life) end() expiry.End {
	day, err := time.Parse(time.DateOnly, l.Ends)
	if err != nil {
		return expiry.End{State: expiry.Never}
	}
	return expiry.At(day)
}

// day is the first on which an account is refused that is to end at a moment: not before it.
func day(at time.Time) time.Time {
	whole := at.UTC().Truncate(expiry.Day)
	if whole.Before(at) {
		whole = whole.Add(expiry.Day)
	}
	return whole
}

const shutDay = "1970-01-02" // 0 is read in two ways (shadow(5))

// ending says how it stands, what the change would do, and by which command.
func (l life) ending(change expiry.EndChange) (out connect.Ending, command []string) {
	former, err := json.Marshal(l)
	if err != nil {
		return out, nil // it is text
	}
	shut := l.Ends != "" && !l.end().At.After(l.today)
	out.Former, out.Words = string(former), "chage says that it never ends"
	if l.Ends != "" {
		out.Words = "chage says that it ends on " + l.Ends
	}
	if l.Locked {
		out.Words += "; its password is locked"
	}
	usermod := func(args ...string) []string {
		return append(append([]string{"/usr/sbin/usermod"}, args...), change.Name)
	}
	switch change.Act {
	case expiry.Disable:
		out.There, out.InForce, command = l.Locked && shut, l.Locked && shut, usermod("-L", "-e", shutDay)
	case expiry.Enable:
		out.There, out.InForce = !l.Locked && !shut, l.Locked || shut
		if l.Locked {
			command = append(command, "-U")
		}
		if shut {
			command = append(command, "-e", noEnd)
			out.Also = []string{"it never ends afterwards: which end it had before it was shut is not kept by the host"}
		}
		command = usermod(command...)
	case expiry.Delete:
		out.Final, command = "the account is gone: its files stay and belong to a number, which the next new account may get", []string{"/usr/sbin/userdel", change.Name}
		out.Also = []string{"userdel refuses while programs run as the account"}
	case expiry.Expire:
		if change.Of == expiry.Password {
			out.Now, out.Will = expiry.End{State: expiry.Never}, expiry.End{State: expiry.Ended}
			out.There, out.InForce, command = l.must, l.must, []string{"/usr/bin/chage", "-d", "0", change.Name}
			out.Words = "chage says that its password was changed on " + l.Changed
			if l.must {
				out.Now, out.Words = out.Will, "chage says that its password must be changed"
			}
			return out, command
		}
		out.Now, out.Will = l.end(), expiry.At(l.today)
		out.There, out.InForce, command = shut, shut, usermod("-e", l.today.Format(time.DateOnly))
	default:
		out.Now, out.Will, out.InForce = l.end(), change.End, shut
		to := noEnd
		if change.End.State == expiry.Ends {
			out.Will = expiry.At(day(change.End.At))
			to = out.Will.At.Format(time.DateOnly)
		}
		out.There, command = out.Now.Same(out.Will), usermod("-e", to)
	}
	return out, command
}

// sights are what a host says whose programs ask PAM, as those of distributions do.
func sights(change expiry.EndChange) []expiry.Sight {
	if change.Act == expiry.Enable || change.End.State == expiry.Never && change.Act != expiry.Expire {
		return nil
	}
	words, job := "Your account has expired; please contact your system administrator.", "User account has expired"
	switch {
	case change.Act == expiry.Delete:
		words, job = "Permission denied", "the crontab belongs to nobody"
	case change.Of == expiry.Password:
		words, job = "Password change required but no TTY available.", "Authentication token is no longer valid; new one required"
	}
	list := []expiry.Sight{
		{Way: expiry.SignsIn, When: "at its next sign-in", Stops: true, Words: words},
		{Way: expiry.OpensKey, When: "at its next sign-in", Stops: true, Words: words},
		{Way: expiry.RunsJob, When: "at its next run", Stops: true, Words: job},
		{Way: expiry.RunsUnit, When: "goes on, and starts again: a unit is started without asking, unless it names PAM (PAMName=)"},
		{Way: expiry.Open, When: "goes on until it signs off"},
	}
	if change.Act == expiry.Disable { // its password is no one's any more: sshd says no word
		list[0].Words = "Permission denied"
	}
	if change.Act == expiry.Delete {
		list[3] = expiry.Sight{Way: expiry.RunsUnit, When: "at its next start", Stops: true, Words: "Failed to determine user credentials: No such process (status 217/USER)"}
	}
	return list
}

// Ending implements connect.Ender.
func (c Connector) Ending(ctx context.Context, target connect.Target, change expiry.EndChange) (connect.Ending, error) {
	if unfit := connect.Endable(c, target, change); unfit != nil {
		return connect.Ending{}, unfit
	}
	s, failure := openHost(ctx, target, connect.NewStopwatch())
	if failure != nil {
		failure.Unclear = false
		return connect.Ending{}, failure
	}
	defer s.Close()
	if change.Of == expiry.Key {
		e, failure := s.readEntryEnd(ctx, change)
		if failure != nil {
			failure.Unclear = false
			return connect.Ending{}, failure
		}
		return e.Ending, nil
	}
	l, failure := s.readLife(ctx, change)
	switch {
	case failure != nil && failure.Code == connect.CodeGone && change.Act == expiry.Delete:
		return connect.Ending{Standing: connect.Standing{There: true, InForce: true, Words: failure.Words}}, nil
	case failure != nil:
		failure.Unclear = false // only asked
		return connect.Ending{}, failure
	}
	out, command := l.ending(change)
	out.Sights = sights(change)
	if strings.EqualFold(change.Name, target.Steward.Account) && change.Act.Takes() {
		return out, target.Fail(connect.StageChange, connect.CodeCannot, "it is the account by which "+target.Name+" is reached: it would lock us out", "its owner does it, with another steward at hand", nil)
	}
	if may := s.allowed(ctx, "right to do it", command...); may.Result == connect.CheckFailed && !out.There {
		return out, target.Fail(connect.StagePermitted, connect.CodeNotPermitted, may.Words, "'moss system prepare "+target.Name+" --for end' says what the steward needs", nil)
	}
	return out, nil
}

// End implements connect.Ender.
func (c Connector) End(ctx context.Context, target connect.Target, change expiry.EndChange, back bool) error {
	if unfit := connect.Endable(c, target, change); unfit != nil {
		return unfit
	}
	s, failure := openHost(ctx, target, connect.NewStopwatch())
	if failure != nil {
		failure.Unclear = false
		return failure
	}
	defer s.Close()
	if change.Of == expiry.Key {
		return s.endEntry(ctx, change, back)
	}
	l, failure := s.readLife(ctx, change)
	if failure != nil {
		if failure.Code == connect.CodeGone && change.Act == expiry.Delete && !back {
			return nil
		}
		failure.Unclear = false // only asked
		return failure
	}
	is, command := l.ending(change)
	if due, err := target.Due(change, is, back); !due {
		return err
	}
	if back {
		var was life
		if err := json.Unmarshal([]byte(change.Former), &was); err != nil {
			return target.Fail(connect.StageChange, connect.CodeFailed, "how it stood before is not readable: "+err.Error(), "look at the account, and decide by hand", err)
		}
		command = l.former(change, was)
	}
	return connect.AsError(s.inTurn(ctx, command))
}

// former is the command that makes an account what it was.
func (l life) former(change expiry.EndChange, was life) []string {
	if change.Of == expiry.Password {
		return []string{"/usr/bin/chage", "-d", was.Changed, change.Name}
	}
	command := []string{"/usr/sbin/usermod"}
	switch {
	case l.Locked && !was.Locked:
		command = append(command, "-U")
	case !l.Locked && was.Locked:
		command = append(command, "-L")
	}
	end := was.Ends
	if end == "" {
		end = noEnd
	}
	return append(command, "-e", end, change.Name)
}
