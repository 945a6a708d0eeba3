package rights

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/directory/values"
	"mossledger.example/moss/internal/core/privilege"
	"mossledger.example/moss/internal/core/privilege/descriptor"
	"mossledger.example/moss/internal/core/privilege/olc"
)

// Access rules stand in the server's own configuration (slapd-config(5)), which a steward may
// read where it is let. Then who may set passwords and write members is known.

const (
	configuration = "cn=config"
	rulesFilter   = "(|(olcAccess=*)(olcSuffix=*))"
)

var rulesAttributes = []string{"olcDatabase", "olcSuffix", "olcAccess", "olcRootDN"}

// mostExpanded is how many accounts a clause about a part of the tree is taken apart into.
const mostExpanded = 500

// database is one of a server, with its rules.
type database struct {
	suffixes []string // folded
	root     string
	rules    []olc.Rule
}

// configured reads the rules. false where they are not shown.
func (r *Reader) configured(ctx context.Context) ([]database, bool) {
	var found []database
	var front []olc.Rule
	err := r.Search(ctx, configuration, rulesFilter, rulesAttributes, func(entries []*ldap.Entry) error {
		for _, e := range entries {
			d := database{root: e.GetAttributeValue("olcRootDN")}
			for _, s := range e.GetAttributeValues("olcSuffix") {
				d.suffixes = append(d.suffixes, values.Fold(s))
			}
			for _, text := range inOrder(e.GetAttributeValues("olcAccess")) {
				rule, err := olc.Parse(text)
				if err != nil {
					rule.Unsure = err.Error()
					r.problems = append(r.problems, connect.Unread{Stage: connect.StageRead, Place: e.DN, What: "an access rule is not understood: " + err.Error() + ": " + rule.Text})
				}
				d.rules = append(d.rules, rule)
			}
			if strings.HasSuffix(e.GetAttributeValue("olcDatabase"), "frontend") {
				front = d.rules
				continue
			}
			found = append(found, d)
		}
		return nil
	})
	if err != nil || len(found) == 0 {
		return nil, false
	}
	for i := range found { // those of the frontend come after a database's own
		found[i].rules = append(found[i].rules, front...)
	}
	return found, true
}

// inOrder sorts by the number that each begins with: {0}, {1}, ...
func inOrder(list []string) []string {
	number := func(text string) int {
		if inner, _, found := strings.Cut(strings.TrimPrefix(text, "{"), "}"); found {
			if n, err := strconv.Atoi(inner); err == nil {
				return n
			}
		}
		return len(list)
	}
	out := slices.Clone(list)
	slices.SortStableFunc(out, func(a, b string) int { return number(a) - number(b) })
	return out
}

// accessRules makes lists of the rules: for each account who may set its password, for each
// group who may write its members. Those that say the same share one.
func (r *Reader) accessRules(databases []database) {
	lists := map[string]*privilege.List{}
	byRoot := map[string]bool{}
	for i, o := range r.objects {
		dn := r.dnOf[i]
		var of *database
		for j := range databases {
			for _, suffix := range databases[j].suffixes {
				if olc.Within(dn, "subtree", suffix) && (of == nil || len(suffix) > len(of.suffixes[0])) {
					of = &databases[j]
				}
			}
		}
		if of == nil {
			continue
		}
		if of.root != "" && !byRoot[of.root] {
			byRoot[of.root] = true
			r.plainLists = append(r.plainLists, privilege.List{Key: "root:" + of.root, Decides: privilege.DecidesAny, Objects: []privilege.Object{{Kind: privilege.ObjectSystem, Name: r.Name}}, Entries: []privilege.Entry{{To: r.called(of.root), Verb: privilege.VerbEverything, Text: "olcRootDN: " + of.root, Source: of.suffixes[0]}}})
		}
		kind, attribute, verb := "account", "userpassword", descriptor.VerbResetPassword
		if o.kind == privilege.KindGroup {
			kind, attribute, verb = "group", "member", descriptor.VerbWriteMembers
		}
		entries := r.entriesOf(of, dn, attribute, verb)
		if len(entries) == 0 {
			continue
		}
		raw, _ := json.Marshal(entries)
		sum := sha256.Sum256(raw)
		key := privilege.SharedKey + hex.EncodeToString(sum[:12])
		if lists[key] == nil {
			lists[key] = &privilege.List{Key: key, Decides: privilege.DecidesFirst, Entries: entries}
		}
		lists[key].Objects = append(lists[key].Objects, privilege.Object{Kind: kind, Name: o.name})
	}
	for _, l := range lists {
		r.plainLists = append(r.plainLists, *l)
	}
}

// entriesOf are those of one attribute of one entry. What an account has on itself is none.
func (r *Reader) entriesOf(of *database, dn, attribute, verb string) (out []privilege.Entry) {
	for _, g := range olc.Of(of.rules, dn, attribute, values.Fold) {
		e := privilege.Entry{Verb: verb, Deny: !g.Writes, Text: g.Text, Unsure: g.Unsure, Source: fmt.Sprintf("olcAccess {%d} of %s", g.Rule, of.suffixes[0])}
		switch g.Who.Kind {
		case "anonymous", "self":
			continue
		case "any", "users":
			e.To = r.everyone()
			out = append(out, e)
		case "group":
			e.To = r.called(g.Who.DN)
			out = append(out, e)
		case "dn":
			if g.Who.Style == "exact" {
				e.To = r.called(g.Who.DN)
				out = append(out, e)
				continue
			}
			base, n := values.Fold(g.Who.DN), 0
			for i, o := range r.objects {
				if o.kind == privilege.KindAccount && olc.Within(r.dnOf[i], g.Who.Style, base) {
					if n++; n > mostExpanded {
						break
					}
					one := e
					one.To = o.id
					out = append(out, one)
				}
			}
			if n > mostExpanded {
				e.To, e.Unsure = r.everyone(), fmt.Sprintf("it is about more than %d accounts below %s", mostExpanded, g.Who.DN)
				out = append(out, e)
			}
		}
	}
	for len(out) > 0 && out[len(out)-1].Deny && out[len(out)-1].Unsure == "" {
		out = out[:len(out)-1]
	}
	return out
}

// everyone is whoever has signed in.
func (r *Reader) everyone() string {
	const id = "users"
	if _, there := r.strange[id]; !there {
		r.strange[id] = privilege.Principal{ID: id, Kind: privilege.KindEveryone, Name: "everyone"}
	}
	return id
}

// called is who a distinguished name names; one of its own where nothing of it is read.
func (r *Reader) called(dn string) string {
	if id := r.byDN[values.Fold(dn)]; id != "" {
		return id
	}
	id := "dn:" + values.Fold(dn)
	if _, there := r.strange[id]; !there {
		r.strange[id] = privilege.Principal{ID: id, Kind: privilege.KindUnknown, Name: dn}
	}
	return id
}
