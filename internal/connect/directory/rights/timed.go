package rights

import (
	"context"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/directory/values"
)

// TimedLinks is what is asked for to learn when memberships end.
var TimedLinks = []string{"member"}

// TimesOfLinks has values of links come with the seconds that are left of them, as in
// <TTL=3600,CN=berth,DC=larkmoor,DC=example> ([MS-ADTS], section 3.1.1.3.4.1.23). It is not
// critical: what does not know it tells plain ones.
var TimesOfLinks = ldap.NewControlString("1.2.840.113556.1.4.2309", false, "")

// timedFeature is what the optional feature is called by which memberships end by themselves.
const timedFeature = "CN=Privileged Access Management Feature,"

// timed reads when memberships end, where the forest has that feature: only then members of
// groups are read besides, which is much.
func (r *Reader) timed(ctx context.Context) error {
	if !r.Windows || r.Configuration == "" {
		return nil
	}
	if !r.hasTimes(ctx) {
		return ctx.Err()
	}
	now := time.Now().UTC()
	for _, base := range r.Bases {
		if r.Closed[base] != "" {
			continue
		}
		if err := r.Search(ctx, base, "(&(objectClass=group)(member=*))", TimedLinks, func(entries []*ldap.Entry) error {
			for _, e := range entries {
				r.ends(e, now)
			}
			return nil
		}); err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			// What was read of rights stays known.
			r.taker.Missing(&r.problems, connect.Unread{Stage: connect.StageRead, Place: base, What: "when memberships end is not known: " + err.Error()})
		}
	}
	return nil
}

// hasTimes: the forest shows that it has the feature. Where it is hidden, memberships are told
// without an end.
func (r *Reader) hasTimes(ctx context.Context) bool {
	has := false
	err := r.Search(ctx, "CN=Partitions,"+r.Configuration, "(msDS-EnabledFeature=*)", []string{"msDS-EnabledFeature"}, func(entries []*ldap.Entry) error {
		for _, e := range entries {
			has = has || slices.ContainsFunc(e.GetAttributeValues("msDS-EnabledFeature"), func(v string) bool { return strings.HasPrefix(v, timedFeature) })
		}
		return nil
	})
	return err == nil && has
}

// ends keeps what the members of one group say.
func (r *Reader) ends(group *ldap.Entry, now time.Time) {
	for _, a := range group.Attributes {
		name, _, part := strings.Cut(strings.ToLower(a.Name), ";range=")
		if name != "member" {
			continue
		}
		if part {
			r.taker.Missing(&r.problems, connect.Unread{Stage: connect.StageRead, Place: group.DN, What: "it has more members than are shown at once: when others of its memberships end is not known"})
		}
		for _, value := range a.Values {
			if member, left, timed := linkOf(value); timed && r.byDN[values.Fold(member)] != "" {
				// To the minute: what is left is told in seconds, and the answer takes some.
				r.until[r.byDN[values.Fold(member)]+"\x00"+values.Fold(group.DN)] = now.Add(left).Round(time.Minute)
			}
		}
	}
}

// linkOf reads a value of a link, which has a time or not.
func linkOf(value string) (dn string, left time.Duration, timed bool) {
	rest, timed := strings.CutPrefix(value, "<TTL=")
	if !timed {
		return value, 0, false
	}
	text, dn, found := strings.Cut(strings.TrimSuffix(rest, ">"), ",")
	seconds, err := strconv.ParseUint(text, 10, 31)
	if !found || err != nil || dn == "" || !strings.HasSuffix(rest, ">") {
		return value, 0, false
	}
	return dn, time.Duration(seconds) * time.Second, true
}
