package unixhost

import (
	"context"
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/expiry"
	"mossledger.example/moss/internal/core/keys"
	"mossledger.example/moss/internal/core/secret"
)

// entryEnd is an entry that lets the holder of a key in, and what a change makes of it.
type entryEnd struct {
	connect.Ending
	file   file
	change expiry.EndChange
	next   []byte // the content of the file afterwards
}

var openSSH = regexp.MustCompile(`OpenSSH_(\d+)\.(\d+)`)

// greenwich reports whether the server takes ends by the clock of Greenwich: OpenSSH from 9.1
// on. It takes an entry with an end that it cannot read for none at all, so others are not
// tried.
func (s *host) greenwich() (bool, string) {
	version := string(s.Client.ServerVersion())
	m := openSSH.FindStringSubmatch(version)
	if m == nil {
		return false, "the server says it is " + version + ", of which is not known how it reads ends of entries"
	}
	major, _ := strconv.Atoi(m[1])
	minor, _ := strconv.Atoi(m[2])
	if major > 9 || major == 9 && minor >= 1 {
		return true, ""
	}
	return false, "the server is " + version + ", which reads ends of entries by its own clock only (OpenSSH from 9.1 on takes a moment)"
}

// readEntryEnd reads how the entries of a key stand.
func (s *host) readEntryEnd(ctx context.Context, change expiry.EndChange) (entryEnd, *connect.Failure) {
	e := entryEnd{change: change}
	if failure := s.sameUser(ctx, connect.StageRead, connect.AccountRef{Name: change.Name, StableID: change.ID}); failure != nil && failure.Code != connect.CodeNotPermitted {
		return e, failure
	}
	var failure *connect.Failure
	if e.file, failure = s.regular(ctx, connect.StageRead, change.Path); failure != nil {
		return e, failure
	}
	entries, _ := keys.ParseAuthorized(e.file.content)
	now, failure := s.clock(ctx)
	if failure != nil {
		return e, failure
	}
	others := 0
	e.Now = expiry.End{}
	for _, entry := range entries {
		if entry.Fingerprint != change.Fingerprint {
			others++
			continue
		}
		end, failure := s.endOf(ctx, entry.Options)
		if failure != nil {
			return e, failure
		}
		if e.Now.State == "" || end.State == expiry.Never || e.Now.State == expiry.Ends && end.At.After(e.Now.At) {
			e.Now = end // the one that lasts longest lets in
		}
	}
	if e.Now.State == "" {
		e.Words = change.Path + " has no entry of that key"
		if change.Act != expiry.Delete {
			return e, s.Target.Fail(connect.StageRead, connect.CodeGone, e.Words, "run a survey of "+s.Target.Name, nil)
		}
		e.There, e.InForce = true, true
		return e, nil
	}
	return e, s.planEntry(&e, now, others)
}

// planEntry computes the file that the change makes.
func (s *host) planEntry(e *entryEnd, now time.Time, others int) *connect.Failure {
	change := e.change
	lines, ends := keys.Entries(e.file.content, change.Fingerprint)
	if change.Act == expiry.Delete {
		if ends = lines; slices.ContainsFunc(lines, func(l string) bool { return !keys.Plain(l) }) {
			ends, e.Final = nil, "the entry has a command or an environment, which is not kept outside the host"
		}
	}
	former, err := json.Marshal(ends)
	if err == nil {
		e.Former, e.Words, e.InForce = string(former), "its entry "+e.Now.Left(now), e.past(now)
		e.Will = change.End
		to := ""
		switch {
		case change.Act == expiry.Expire:
			e.Will, e.There = expiry.At(now.Add(-time.Second)), e.past(now)
			to = keys.EntryTime(e.Will.At)
		case change.Act != expiry.Delete && change.End.State == expiry.Ends:
			whole := change.End.At.Truncate(time.Second)
			e.Will, e.There, to = expiry.At(whole), e.Now.Same(expiry.At(whole)), keys.EntryTime(whole)
		case change.Act != expiry.Delete:
			e.There = e.Now.State == expiry.Never
		}
		e.next, err = keys.Rewrite(e.file.content, change.Fingerprint, func(_ int, line string) (string, error) {
			if change.Act == expiry.Delete {
				return "", nil
			}
			return keys.WithEnd(line, to)
		})
		if knows, why := s.greenwich(); to != "" && !knows {
			return s.Target.Fail(connect.StageChange, connect.CodeCannot, why, "delete the entry instead, or set the end by hand", nil)
		}
	}
	if err != nil {
		return s.Target.Fail(connect.StageRead, connect.CodeFailed, change.Path+": "+err.Error(), "look at the file", err)
	}
	if change.Act != expiry.Delete && e.Will.State == expiry.Never {
		return nil
	}
	e.Sights = []expiry.Sight{
		{Way: expiry.OpensKey, When: "at its next sign-in", Stops: true, Words: "Permission denied"},
		{Way: expiry.Open, When: "goes on until it signs off"},
	}
	if change.Act != expiry.Delete {
		e.Also = append(e.Also, "why it is refused says the host's own journal alone: that the key has expired")
	}
	if others == 0 {
		e.Also = append(e.Also, "no other entry is in "+change.Path+": no key opens the account by this file afterwards")
	}
	return nil
}

// past: sshd still takes an entry in the second that is written in it.
func (e entryEnd) past(now time.Time) bool {
	return e.Now.State == expiry.Ended || e.Now.State == expiry.Ends && e.Now.At.Before(now)
}

func (s *host) clock(ctx context.Context) (time.Time, *connect.Failure) {
	out, failure := s.Output(ctx, connect.StageRead, "/usr/bin/date", "+%s")
	if failure != nil {
		return time.Time{}, failure
	}
	seconds, err := strconv.ParseInt(strings.TrimSpace(string(out)), 10, 64)
	if err != nil {
		return time.Time{}, s.Target.Fail(connect.StageRead, connect.CodeProtocol, "date says "+string(out), "", err)
	}
	return time.Unix(seconds, 0).UTC(), nil
}

// endOf places the end of an entry, with the host's own clock where it is written by that.
func (s *host) endOf(ctx context.Context, options []string) (expiry.End, *connect.Failure) {
	at, text, err := keys.EntryEnd(options)
	switch {
	case err != nil:
		return expiry.End{State: expiry.Ended, Why: err.Error()}, nil //nolint:nilerr // it is what the host makes of it
	case text != "":
		out, failure := s.Output(ctx, connect.StageRead, "/usr/bin/date", "-d", text, "+%s")
		if failure != nil {
			return expiry.End{}, failure
		}
		seconds, err := strconv.ParseInt(strings.TrimSpace(string(out)), 10, 64)
		if err != nil {
			return expiry.End{}, s.Target.Fail(connect.StageRead, connect.CodeProtocol, "date says "+string(out), "", err)
		}
		return expiry.At(time.Unix(seconds, 0)), nil
	case at.IsZero():
		return expiry.End{State: expiry.Never}, nil
	}
	return expiry.At(at), nil
}

// endEntry makes the change, or gives the entries back as they were.
func (s *host) endEntry(ctx context.Context, change expiry.EndChange, back bool) error {
	e, failure := s.readEntryEnd(ctx, change)
	if failure != nil {
		failure.Unclear = false // only read
		return failure
	}
	if due, err := s.Target.Due(change, e.Ending, back); !due {
		return err
	}
	next := e.next
	if back {
		var former []string
		err := json.Unmarshal([]byte(change.Former), &former)
		switch {
		case err != nil:
		case change.Act == expiry.Delete:
			next = slices.Clone(e.file.content)
			if len(next) > 0 && next[len(next)-1] != '\n' {
				next = append(next, '\n')
			}
			next = append(next, strings.Join(former, "")...)
		default:
			next, err = keys.Rewrite(e.file.content, change.Fingerprint, func(nth int, line string) (string, error) {
				if nth >= len(former) {
					return "", fmt.Errorf("%w: there are more entries of the key than before", keys.ErrEntries)
				}
				return keys.WithEnd(line, former[nth])
			})
		}
		if err != nil {
			return s.Target.Fail(connect.StageChange, connect.CodeFailed, change.Path+": "+err.Error(), "look at the file, and decide by hand", err)
		}
	}
	if failure := s.linked(e.file); failure != nil {
		return failure
	}
	return connect.AsError(s.put(ctx, e.file, next, secret.Value{}, secret.Value{}))
}
