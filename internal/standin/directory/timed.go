package directory

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	ber "github.com/go-asn1-ber/asn1-ber"
)

// oidTimes has values of links come with the time that is left of them ([MS-ADTS], section
// 3.1.1.3.4.1.23).
const oidTimes = "1.2.840.113556.1.4.2309"

// link is a membership that ends by itself.
type link struct {
	member string
	until  time.Time
}

func asksTimes(controls *ber.Packet) bool {
	return controls != nil && slices.ContainsFunc(controls.Children, func(one *ber.Packet) bool { return len(one.Children) > 0 && text(one.Children[0]) == oidTimes })
}

// untilOf reads a value that is added to a group: with a time, or plain.
func (s *Server) untilOf(value string) (dn string, until time.Time, timed bool) {
	rest, timed := strings.CutPrefix(value, "<TTL=")
	seconds, dn, found := strings.Cut(strings.TrimSuffix(rest, ">"), ",")
	left, err := strconv.Atoi(seconds)
	if !timed || !found || err != nil || !s.config.Timed {
		return value, time.Time{}, false
	}
	return dn, s.config.Now().Add(time.Duration(left) * time.Second), true
}

// forget takes members out of a group whose time is over.
func (s *Server) forget(group *Entry) {
	for _, l := range group.timed {
		if s.config.Now().Before(l.until) {
			continue
		}
		gone := func(of string) func(string) bool { return func(v string) bool { return normal(v) == normal(of) } }
		group.Attributes["member"] = slices.DeleteFunc(slices.Clone(group.Attributes["member"]), gone(l.member))
		if other := s.entries[normal(l.member)]; other != nil {
			other.Attributes["memberOf"] = slices.DeleteFunc(slices.Clone(other.Attributes["memberOf"]), gone(group.DN))
		}
	}
	group.timed = slices.DeleteFunc(group.timed, func(l link) bool { return !s.config.Now().Before(l.until) })
}

// forgetAll does so in all groups: a link has two ends, and is asked for at either.
func (s *Server) forgetAll() {
	for _, k := range s.order {
		if e := s.entries[k]; len(e.timed) > 0 {
			s.forget(e)
		}
	}
}

// withTimes shows members with what is left of them.
func (s *Server) withTimes(group *Entry, shown map[string][]string) {
	for i, dn := range shown["member"] {
		for _, l := range group.timed {
			if normal(l.member) == normal(dn) {
				shown["member"][i] = fmt.Sprintf("<TTL=%d,%s>", int(l.until.Sub(s.config.Now()).Seconds()), dn)
			}
		}
	}
}

// AddFor puts a member into a group for a while.
func (s *Server) AddFor(group, member string, lasts time.Duration) (int, string) {
	s.lock.Lock()
	defer s.lock.Unlock()
	e := s.entries[normal(group)]
	if e == nil {
		return 32, "no such object"
	}
	return (&client{Server: s}).member(e, 0, []string{fmt.Sprintf("<TTL=%d,%s>", int(lasts.Seconds()), member)})
}
