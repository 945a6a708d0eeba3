package conformance

import (
	"errors"
	"net"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/privilege"
	"mossledger.example/moss/internal/core/reach"
	"mossledger.example/moss/internal/core/secret"
)

func (s *suite) diagnose(t *testing.T) {
	if !s.can(t, connect.ActDiagnose) || s.left(t, s.Unit.Kind == "", "nothing may be restarted") {
		return
	}
	d, err := s.Connector.Diagnose(s.ctx, s.Target, s.Unit)
	require.NoError(t, err)
	assert.Equal(t, s.Unit, d.Dependent.At())
	assert.True(t, d.Dependent.Up(), d.Dependent.State)
	_, err = s.Connector.Diagnose(s.ctx, s.Target, estate.Place{Kind: s.Unit.Kind, Place: "no-such-unit.service"})
	assert.Equal(t, connect.CodeGone, s.failure(t, err).Code)
}

func (s *suite) observe(t *testing.T) {
	if !s.can(t, connect.ActObserve) || s.left(t, s.Unit.Kind == "", "there is no unit") {
		return
	}
	list, err := s.Connector.Connections(s.ctx, s.Target, s.Unit)
	require.NoError(t, err)
	for _, c := range list {
		assert.Equal(t, s.Unit.Place, c.Unit, "of that one only")
	}
	list, err = s.Connector.Connections(s.ctx, s.Target, estate.Place{Kind: s.Unit.Kind, Place: "no-such-unit.service"})
	require.NoError(t, err)
	assert.Empty(t, list, "what is not there has none")
}

func (s *suite) records(t *testing.T) {
	if !s.can(t, connect.ActRecords) {
		return
	}
	now := time.Now()
	log, err := s.Connector.Records(s.ctx, s.Target, now.Add(-time.Hour))
	require.NoError(t, err)
	if log.Since.IsZero() {
		assert.Empty(t, log.Records, "what was not read tells nothing")
	}
	for _, r := range log.Records {
		assert.False(t, r.At.IsZero(), "%+v", r)
		assert.NotEmpty(t, r.Act, "%+v", r)
		assert.False(t, r.Who == "" && r.Of == "", "it tells of somebody: %+v", r)
	}
}

// rights: who may do what is told of principals that are there, in lists that are whole, and
// the same twice.
func (s *suite) rights(t *testing.T) {
	if !s.can(t, connect.ActRights) {
		return
	}
	read := func() (all connect.Rights, coverage connect.RightsCoverage) {
		coverage, err := s.Connector.Rights(s.ctx, s.Target, connect.RightsRequest{Whole: true}, func(b connect.Batch) error {
			require.NotNil(t, b.Rights)
			all.Principals = append(all.Principals, b.Rights.Principals...)
			all.Memberships = append(all.Memberships, b.Rights.Memberships...)
			all.Lists = append(all.Lists, b.Rights.Lists...)
			for _, p := range b.Problems {
				assert.NotEmpty(t, p.What)
				assert.NotEmpty(t, p.Place)
			}
			return nil
		})
		require.NoError(t, err)
		return all, coverage
	}
	all, coverage := read()
	assert.Equal(t, coverage.Complete, coverage.Why == "", "what is not complete has a reason: %q", coverage.Why)
	assert.Equal(t, len(all.Lists), coverage.Lists)
	there, keys, entries, account := map[string]bool{}, map[string]bool{}, 0, false
	for _, p := range all.Principals {
		assert.False(t, there[p.ID], "one principal twice: %+v", p)
		there[p.ID] = true
		assert.NotEmpty(t, p.Name, "%+v", p)
		assert.NotEmpty(t, p.Kind, "%+v", p)
		account = account || p.Kind == privilege.KindAccount && p.ID == s.ref().StableID
	}
	if s.Connector.Describe().Class != estate.ClassDirectory { // there whoever has no more than everybody need not be told
		assert.True(t, account, "the account itself is a principal, by its stable id")
	}
	for _, m := range all.Memberships {
		assert.True(t, there[m.Member], "%+v", m)
	}
	for _, l := range all.Lists {
		assert.False(t, keys[l.Key], "one list twice: %s", l.Key)
		keys[l.Key] = true
		assert.Contains(t, []privilege.Decides{privilege.DecidesAny, privilege.DecidesFirst, privilege.DecidesLast, privilege.DecidesAlone}, l.Decides, l.Key)
		assert.NotEmpty(t, l.Objects, l.Key)
		entries += len(l.Entries)
		for _, e := range l.Entries {
			assert.True(t, there[e.To], "it is given to somebody who is there: %+v", e)
			assert.Contains(t, s.Connector.Describe().Verbs, e.Verb, "the kind says that it has it: %+v", e)
			assert.NotEmpty(t, e.Text, "it is told in the system's own language: %+v", e)
		}
	}
	assert.Equal(t, entries, coverage.Entries)
	again, _ := read()
	assert.ElementsMatch(t, all.Lists, again.Lists)
	assert.ElementsMatch(t, all.Principals, again.Principals)
	assert.ElementsMatch(t, all.Memberships, again.Memberships)

	broken := errors.New("the disk is full")
	_, err := s.Connector.Rights(s.ctx, s.Target, connect.RightsRequest{Whole: true}, func(connect.Batch) error { return broken })
	assert.ErrorIs(t, err, broken, "what cannot be taken in ends the reading")
	target := s.Target
	target.Steward.Password = secret.New("Not-The-Steward-99")
	target.Steward.PrivateKey = secret.Value{}
	_, err = s.Connector.Rights(s.ctx, target, connect.RightsRequest{Whole: true}, func(connect.Batch) error { t.Error("without signing in nothing is told"); return nil })
	s.failure(t, err)
}

// prepare: what its owner must do is told without reaching anything and without a secret, and
// says for each part what it is for and where it is done.
func (s *suite) prepare(t *testing.T) {
	target := s.Target
	target.Address, target.Port = "192.0.2.255", 1
	all := s.Connector.Prepare(target, connect.Known{PublicKey: "ssh-ed25519 AAAAC3Nz moss"})
	require.NotEmpty(t, all)
	for _, p := range all {
		assert.Contains(t, connect.Purposes(), p.For)
		assert.NotEmpty(t, p.What)
		assert.NotEmpty(t, p.Where)
		assert.Contains(t, []string{"sh", "sudoers", "sql", "acl", "sddl", "ldif", "powershell"}, p.Language)
		assert.True(t, strings.HasSuffix(p.Text, "\n"), "it ends with its line: %q", p.Text)
		if password := s.Target.Steward.Password.RevealString(); password != "" {
			assert.NotContains(t, p.Text, password)
		}
	}
	s.propose(t)
	target.Steward.Account = "x'; DROP TABLE y --\nroot ALL=(ALL) ALL"
	for _, p := range s.Connector.Prepare(target, connect.Known{}) {
		if p.Language != "ldif" { // where a name is a distinguished name, in quotes
			assert.NotContains(t, p.Text, "\nroot ALL", "a name ends no line")
			assert.NotContains(t, p.Text, "DROP TABLE", "nor a text")
		}
	}
}

// quotedWords are names and strings in quotes, of SQL and of a shell.
var quotedWords = regexp.MustCompile("\"(\"\"|[^\"])*\"|'('\\\\''|''|\\\\.|[^'])*'|`(``|[^`])*`")

// propose: a change of rights is put into words that can be copied, with the way back, or it
// is said why not; no name in it ends a line or a word.
func (s *suite) propose(t *testing.T) {
	for _, give := range []bool{true, false} {
		for _, name := range []string{"tide", "x'; DROP TABLE y --", "tide\nroot ALL=(ALL) ALL", "-rf", "\u202eedit"} {
			for _, change := range []privilege.RightChange{
				{Group: name, GroupID: "1", GroupDN: "cn=" + name + ",dc=larkmoor,dc=example"},
				{Verb: privilege.VerbRun, What: "/usr/bin/true " + name, Text: "tide ALL = /usr/bin/true"},
				{Verb: "select", Object: privilege.Object{Kind: "table", Name: "bookings.public." + name}, Text: "GRANT SELECT ON TABLE public.tide TO tide"},
			} {
				change.Give, change.To, change.ToDN, change.ToKind = give, name, "cn="+name+",dc=larkmoor,dc=example", privilege.KindAccount
				p, why := s.Connector.Propose(s.Target, change)
				require.True(t, (why == "") == (p.Text != ""), "words, or why not: %+v %q", p, why)
				if why != "" {
					continue
				}
				assert.NotEmpty(t, p.Where)
				assert.NotEmpty(t, p.Back)
				assert.Contains(t, []string{"sh", "sudoers", "sql", "acl", "sddl", "ldif", "powershell"}, p.Language)
				for _, text := range []string{p.Text, p.Back} {
					assert.True(t, strings.HasSuffix(text, "\n"), "%q", text)
					assert.NotContains(t, text, "\nroot ALL", "a name ends no line")
					assert.NotContains(t, text, "\u202e")
					if p.Language == "sql" || p.Language == "sh" {
						assert.NotContains(t, quotedWords.ReplaceAllString(text, "x"), "DROP", "nor a word: %s", text)
					}
				}
			}
		}
	}
}

// reach: ports are asked from where the system is. What listens is told from what does not, and
// from what says something else.
func (s *suite) reach(t *testing.T) {
	if !s.can(t, connect.ActReach) {
		_, err := s.Connector.Reach(s.ctx, s.Target, []reach.Ask{{Target: "192.0.2.1:22"}})
		require.Error(t, err)
		return
	}
	own := net.JoinHostPort(s.Target.Address, strconv.Itoa(s.Target.Port))
	nothing := net.JoinHostPort(s.Target.Address, "1")
	got, err := s.Connector.Reach(s.ctx, s.Target, []reach.Ask{{Target: own}, {Target: "ssh://" + own}, {Target: own, Contains: "220 mail"}, {Target: nothing}, {Target: "https://" + own}, {Target: "169.254.169.254:80"}})
	require.NoError(t, err)
	var outcomes []reach.Outcome
	for _, r := range got {
		outcomes = append(outcomes, r.Outcome)
		assert.NotEmpty(t, r.Words)
	}
	assert.Equal(t, []reach.Outcome{reach.Open, reach.Open, reach.WrongAnswer, reach.Refused, reach.WrongAnswer, reach.Unprobed}, outcomes, "%+v", got)
}

// amend: what is not known how to change is refused for certain and without being tried; of
// whom nobody knows nothing is said to be there; without signing in nothing is told.
func (s *suite) amend(t *testing.T) {
	if !s.can(t, connect.ActAmend) {
		return
	}
	strange := privilege.RightChange{Give: true, To: s.Account, ToID: s.ref().StableID, ToDN: s.ref().DN, Verb: "do what nobody can", Object: privilege.Object{Kind: "nothing", Name: "of this name"}}
	_, err := s.Connector.Standing(s.ctx, s.Target, strange)
	assert.Equal(t, connect.CodeCannot, s.failure(t, err).Code)
	for _, back := range []bool{false, true} {
		f := s.failure(t, s.Connector.Amend(s.ctx, s.Target, strange, back))
		assert.Equal(t, connect.CodeCannot, f.Code)
		assert.False(t, f.Unclear)
		assert.NotEmpty(t, f.Next)
	}
	nobody := privilege.RightChange{Give: true, To: "nobody-of-this-name", ToDN: "cn=nobody-of-this-name,dc=nowhere,dc=example", Group: "no-such-group", GroupID: "x", GroupDN: "cn=no-such-group,dc=nowhere,dc=example"}
	if standing, err := s.Connector.Standing(s.ctx, s.Target, nobody); err == nil {
		assert.False(t, standing.There)
	} else {
		assert.False(t, s.failure(t, err).Unclear, "it was only asked")
	}
	s.failure(t, s.Connector.Amend(s.ctx, s.Target, nobody, false))
	target := s.Target
	target.Steward.Password, target.Steward.PrivateKey = secret.New("Not-The-Steward-99"), secret.Value{}
	_, err = s.Connector.Standing(s.ctx, target, nobody)
	assert.False(t, s.failure(t, err).Unclear)
	assert.False(t, s.failure(t, s.Connector.Amend(s.ctx, target, nobody, false)).Unclear, "nothing was begun")
	if s.can(t, connect.ActTry) {
		_, err = s.Connector.Try(s.ctx, target, "true")
		s.failure(t, err)
	}
}
