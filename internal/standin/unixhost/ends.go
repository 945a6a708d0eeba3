package unixhost

import (
	"fmt"
	"slices"
	"strconv"
	"time"

	"golang.org/x/crypto/ssh"

	"mossledger.example/moss/internal/core/keys"
)

// When accounts and entries end. A host counts days in UTC, and on the day that is written an
// account is refused already (shadow(5)).

// ended: the account's last day is over.
func (u *User) ended(now time.Time) bool {
	day, err := time.Parse(time.DateOnly, u.Expires)
	return err == nil && !now.UTC().Before(day)
}

// admitted is what PAM says of an account whose proof was right.
func (u *User) admitted(now time.Time) (*ssh.Permissions, error) {
	if u.ended(now) {
		return nil, &ssh.BannerError{Message: "Your account has expired; please contact your system administrator.\n", Err: fmt.Errorf("%s has ended", u.Name)}
	}
	return &ssh.Permissions{}, nil
}

// entryEnded: sshd takes an entry in the second that is written in it, and none whose end it
// cannot read.
func entryEnded(options []string, now time.Time) bool {
	at, text, err := keys.EntryEnd(options)
	if text != "" {
		at, err = time.Parse(time.DateTime, text)
	}
	return err != nil || !at.IsZero() && at.Before(now.Truncate(time.Second))
}

// life changes how long an account lives: usermod -L, -U and -e.
func (p *process) life(args []string) int {
	u := p.Host.user(args[len(args)-1])
	if u == nil {
		return p.fail(6, "usermod: user '%s' does not exist", args[len(args)-1])
	}
	locked, expires := u.Locked, u.Expires
	for i := 0; i < len(args)-1; i++ {
		switch args[i] {
		case "-L":
			locked = true
		case "-U":
			if u.Password == "" {
				return p.fail(1, "usermod: unlocking the user's password would result in a passwordless account.")
			}
			locked = false
		case "-e":
			i++
			if _, err := time.Parse(time.DateOnly, args[i]); err != nil && args[i] != "-1" {
				return p.fail(3, "usermod: invalid date '%s'", args[i])
			}
			if expires = args[i]; expires == "-1" {
				expires = ""
			}
		default:
			return p.fail(2, "Usage: usermod [options] LOGIN")
		}
	}
	u.Locked, u.Expires = locked, expires
	return 0
}

// changedOn writes when a password was changed: chage -d. 0 has it changed at the next
// sign-in.
func (p *process) changedOn(u *User, day string) int {
	at, err := time.Parse(time.DateOnly, day)
	if n, number := strconv.Atoi(day); number == nil {
		at, err = time.Unix(int64(n)*86400, 0).UTC(), nil
	}
	if err != nil {
		return p.fail(1, "chage: invalid date '%s'", day)
	}
	u.Changed = at
	return 0
}

func (u *User) mustChange() bool {
	return !u.Changed.IsZero() && u.Changed.Unix() <= 0 && u.Password != ""
}

func (p *process) userdel(args []string) int {
	switch {
	case p.user.UID != 0:
		return p.fail(1, "userdel: Permission denied.")
	case len(args) != 1 || p.Host.user(args[0]) == nil:
		return p.fail(6, "userdel: user '%s' does not exist", args[len(args)-1])
	}
	p.Host.users = slices.DeleteFunc(p.Host.users, func(u *User) bool { return u.Name == args[0] })
	return 0
}

func (p *process) date(args []string) int {
	now := time.Now().UTC()
	if len(args) > 1 && args[0] == "-d" {
		at, err := time.Parse(time.DateTime, args[1])
		if err != nil {
			return p.fail(1, "date: invalid date ‘%s’", args[1])
		}
		now = at
	}
	switch args[len(args)-1] {
	case "+%F":
		fmt.Fprintln(&p.out, now.Format(time.DateOnly))
	case "+%s":
		fmt.Fprintln(&p.out, now.Unix())
	default:
		return p.fail(1, "date: invalid format")
	}
	return 0
}
