package sudo

import (
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/privilege"
)

// What a host's own sudo says to 300 generated policies is compared in the lab
// (TestSudoVerdicts); here is what a host does not show.

func parse(text string, others ...File) *Policy {
	return Parse(File{Path: "/etc/sudoers", Text: text}, "quay1.larkmoor.example", func(p string, dir bool) ([]File, error) {
		var out []File
		for _, f := range others {
			if f.Path == p || dir && strings.HasPrefix(f.Path, p+"/") {
				out = append(out, f)
			}
		}
		if out == nil {
			return nil, errors.New(p + " is not there")
		}
		return out, nil
	})
}

var (
	quay  = Host{Name: "quay1.larkmoor.example", Addresses: []netip.Prefix{netip.MustParsePrefix("192.0.2.7/26"), netip.MustParsePrefix("2001:db8::7/64")}}
	berth = User{Name: "berth", UID: "2001", Groups: []string{"crew"}, GIDs: []string{"3001"}}
)

func says(p *Policy, command string, change func(*Ask)) string {
	words := strings.Fields(command)
	ask := Ask{User: berth, Command: words[0], Args: words[1:]}
	if change != nil {
		change(&ask)
	}
	v := p.Allows(quay, ask, World{})
	switch {
	case v.Unsure != "":
		return "unsure"
	case v.Allowed && v.NoPassword:
		return "without a password"
	case v.Allowed:
		return "yes"
	}
	return "no"
}

func TestWhatNoHostShows(t *testing.T) {
	for _, c := range []struct{ rules, command, want string }{
		{"+night ALL = ALL", "/bin/x", "unsure"}, // a net group
		{"+night ALL = ALL\nberth ALL = ALL", "/bin/x", "yes"},
		{"berth ALL = ALL\n+night ALL = !/bin/x", "/bin/x", "unsure"},
		{"%:domain\\ crew ALL = ALL", "/bin/x", "unsure"},
		{"berth +quays = ALL", "/bin/x", "unsure"},
		{"berth ALL = sha256:" + strings.Repeat("0", 64) + " /bin/x", "/bin/x", "unsure"},
		{"berth 192.0.2.0/26 = /bin/x", "/bin/x", "yes"},
		{"berth 192.0.2.64/26 = /bin/x", "/bin/x", "no"},
		{"berth 192.0.2.0/255.255.255.192 = /bin/x", "/bin/x", "yes"},
		{"berth 192.0.2.0/255.0.255.0 = /bin/x", "/bin/x", "no"}, // no mask
		{"berth 2001:db8::/64 = /bin/x", "/bin/x", "yes"},
		{"berth 2001:db8::7 = /bin/x", "/bin/x", "yes"},
		{"berth 2001:db8:1::/64 = /bin/x", "/bin/x", "no"},
		{"berth quay1 = /bin/x", "/bin/x", "yes"},
		{"berth quay1.elsewhere.example = /bin/x", "/bin/x", "no"},
		{"berth ALL = /bin/x", "/usr/bin/x", "yes"}, // one folder since years
		{"berth ALL = /opt/x", "/usr/opt/x", "no"},
		{"berth ALL = ^/bin/(x$", "/bin/x", "unsure"}, // an expression that is none
		{"berth ALL = NOTBEFORE=20300101000000Z /bin/x", "/bin/x", "unsure"},
		{"berth ALL = sudoedit /etc/motd", "sudoedit /etc/motd", "yes"},
		{"berth ALL = sudoedit /etc/*", "sudoedit /etc/ssh/sshd_config", "no"},
		{"Defaults !authenticate\nberth ALL = /bin/x", "/bin/x", "without a password"},
		{"Defaults@quay1 !authenticate\nberth ALL = /bin/x", "/bin/x", "without a password"},
		{"Defaults !authenticate\nberth ALL = PASSWD: /bin/x", "/bin/x", "yes"},
	} {
		p := parse(c.rules)
		assert.Equal(t, c.want, says(p, c.command, nil), c.rules)
		assert.Empty(t, p.Problems, c.rules)
	}
	p := parse("berth ALL = NOTBEFORE=2030010100Z NOTAFTER=20310101000000Z /bin/x\n")
	for now, want := range map[string]string{"20291231235959Z": "no", "20300101000000Z": "yes", "20310101000001Z": "no"} {
		assert.Equal(t, want, says(p, "/bin/x", func(a *Ask) { a.Now = now }), now)
	}
	p = parse("berth ALL = (tide : ops) /bin/x")
	for _, c := range []struct{ user, group, want string }{{"tide", "ops", "yes"}, {"tide", "", "yes"}, {"", "ops", "yes"}, {"fuel", "ops", "no"}, {"tide", "crew", "no"}, {"", "", "no"}} {
		assert.Equal(t, c.want, says(p, "/bin/x", func(a *Ask) { a.RunAs, a.Group = c.user, c.group }), "%+v", c)
	}
	v := parse("berth ALL = ALL").Allows(quay, Ask{User: berth, Command: "/bin/x"}, World{})
	require.NotNil(t, v.Rule)
	assert.Equal(t, "/etc/sudoers:1", v.Rule.Place)
}

func TestProblemsHaveTheirPlace(t *testing.T) {
	p := parse(strings.Join([]string{
		"# a remark", "#1000 ALL = ALL", "User_Alias lower = x", "Cmnd_Alias LOOP = /bin/a, LOOP", "berth ALL = LOOP, NOSUCH",
		"berth ALL = relative", "berth ALL", "berth ALL = /bin/", "berth ALL = /bin/ x", "berth ALL = sha256:zz /bin/x", "@include /nowhere", "@includedir \"/etc/sudoers.d\"", "User_Alias TWICE = a", "User_Alias TWICE = b", "Defaults x=\"open", "berth ALL = ^/bin/x", "\"open ALL = ALL",
	}, "\n"), File{Path: "/etc/sudoers.d/a", Text: "tide ALL = ("}, File{Path: "/etc/sudoers.d/b.bak", Text: "tide ALL = ("})
	var places []string
	for _, problem := range p.Problems {
		places = append(places, strings.TrimPrefix(problem.Place, "/etc/sudoers"))
		assert.NotEmpty(t, problem.What)
	}
	assert.Equal(t, []string{":3", ":6", ":7", ":9", ":10", ":11", ".d/a:1", ":14", ":15", ":16", ":17", ":5", ":5"}, places)
	assert.Equal(t, []string{"/etc/sudoers", "/etc/sudoers.d/a"}, p.Files)

	deep := parse("@include /etc/sudoers", File{Path: "/etc/sudoers", Text: "@include /etc/sudoers"})
	require.NotEmpty(t, deep.Problems)
	assert.Contains(t, deep.Problems[len(deep.Problems)-1].What, "too many levels")
	none := Parse(File{Path: "x", Text: "@include y"}, "", nil)
	assert.Len(t, none.Problems, 1)
}

// A host that turned bad can make files and aliases that double with each step: reading
// them ends, and says so.
func TestWhatDoublesEnds(t *testing.T) {
	include := func(string, bool) ([]File, error) {
		return []File{{Path: "/etc/sudoers", Text: "@include a\n@include a\n"}}, nil
	}
	p := Parse(File{Path: "/etc/sudoers", Text: "@include a\n@include a\nberth ALL = ALL\n"}, "", include)
	assert.Len(t, p.Files, maxFiles)
	assert.Less(t, len(p.Problems), 3*maxFiles)
	assert.Equal(t, "yes", says(p, "/bin/x", nil))

	var text strings.Builder
	for i := range 60 {
		fmt.Fprintf(&text, "Cmnd_Alias C%d = C%d, C%d\nUser_Alias U%d = U%d, U%d\n", i, i+1, i+1, i, i+1, i+1)
	}
	text.WriteString("Cmnd_Alias C60 = /bin/x\nUser_Alias U60 = berth\nU0 ALL = C0\n")
	p = parse(text.String())
	assert.NotEmpty(t, p.Problems)
	assert.LessOrEqual(t, len(p.Rules), maxItems)

	long := strings.Repeat("\\\n", 300_000) + "berth ALL = ALL"
	assert.Equal(t, "yes", says(parse(long), "/bin/x", nil))
	assert.Empty(t, parse("berth ALL = ALL \\").Rules, "nothing follows the last backslash")
}

// Entries say the same as the rules that they are made of.
func TestListOfRules(t *testing.T) {
	p := parse("User_Alias DECK = %crew, !fuel, +night\nDECK ALL = NOPASSWD: /usr/bin/systemctl restart berth.service, !/usr/bin/systemctl restart ssh.service\nberth elsewhere = ALL\ntide ALL = (berth, !root : ops) NOTAFTER=20300101000000Z ALL\nnobody ALL = ALL\nberth +quays = /bin/x\n")
	l := p.List(quay, func(i Item) string {
		return map[string]string{"%crew": "crew", "fuel": "fuel", "tide": "tide", "berth": "berth"}[strings.TrimPrefix(i.String(), "!")]
	})
	var lines []string
	for _, e := range l.Entries {
		lines = append(lines, fmt.Sprint(privilege.May(e.Verb, e.Deny, e.Unsure), " ", e.What, " as ", e.As, " by ", e.To, " not ", e.Not, " ", e.Terms))
	}
	assert.Equal(t, []string{
		"run /usr/bin/systemctl restart berth.service as root by crew not [fuel] []",
		"perhaps run /usr/bin/systemctl restart berth.service as root by everyone not [] []",
		"not run /usr/bin/systemctl restart ssh.service as root by crew not [fuel] []",
		"perhaps not run /usr/bin/systemctl restart ssh.service as root by everyone not [] []",
		"run ALL as berth, !root : ops by tide not [] [with a password not after 20300101000000Z]",
		"perhaps run /bin/x as root by berth not [] [with a password]",
	}, lines)
	assert.Equal(t, "%crew ALL = NOPASSWD: /usr/bin/systemctl restart berth.service", l.Entries[0].Text)
	for _, c := range []struct {
		entry       int
		what, as    string
		want        privilege.Answer
		whatItIsFor string
	}{
		{0, "/usr/bin/systemctl restart berth.service", "", privilege.AnswerYes, "the command"},
		{0, "/usr/bin/systemctl restart", "", privilege.AnswerNo, "fewer arguments"},
		{0, "", "", privilege.AnswerYes, "anything"},
		{0, "ALL", "", privilege.AnswerNo, "each command there is"},
		{4, "ALL", "berth", privilege.AnswerYes, "each as berth"},
		{4, "ALL", "", privilege.AnswerNo, "not as root"},
		{4, "/bin/x", "root", privilege.AnswerNo, "not as root"},
	} {
		assert.Equal(t, c.want, Matches(l.Entries[c.entry], privilege.Question{Verb: "run", What: c.what, As: c.as}), c.whatItIsFor)
	}
	assert.Equal(t, privilege.AnswerUnsure, Matches(privilege.Entry{What: "nonsense"}, privilege.Question{What: "/bin/x"}))
	assert.Equal(t, privilege.AnswerUnsure, Matches(privilege.Entry{What: "ALL", As: "%crew"}, privilege.Question{What: "/bin/x"}))
	assert.Equal(t, "/bin/a b=c", Spoken(`/bin/a b\=c`))
	assert.Equal(t, "/bin/a", Spoken(`/bin/a ""`))
	assert.Equal(t, "ALL", Spoken("ALL"))
	assert.Empty(t, Spoken("("))
}

// Whatever the text: nothing panics, a rule has its place, and what a command is written as
// is read as the same command.
func FuzzParse(f *testing.F) {
	for _, seed := range []string{
		"berth ALL = (root : ops) NOPASSWD: /bin/a b\\,c, !/bin/d \"\"", "User_Alias A = %#12, +n, !B : B = \"a b\"\nA ALL=ALL", "Defaults:berth !x, y=\"z\"", "a b=sha224:AAAA /x", "#1 ALL=^/a$ ^b$", "a\\\n b = /c/*[x-z]?\\*", "x y = sudoedit /etc/a\\=b", "@include \"x y\"", "Cmnd_Alias X = Y, !X\na X = X",
	} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		p := parse(text)
		for _, r := range p.Rules {
			require.NotEmpty(t, r.Place)
			again, err := ParseCommand(r.Command.String())
			if err != nil {
				t.Fatalf("%q of %q is not read: %v", r.Command.String(), text, err)
			}
			require.Equal(t, r.Command.String(), again.String())
			require.Equal(t, r.Command.Path, again.Path)
			require.Equal(t, r.Command.Args, again.Args)
		}
		p.Allows(quay, Ask{User: berth, Command: "/bin/a", Args: []string{"b,c"}}, World{})
		p.List(quay, func(i Item) string { return i.Name })
	})
}

// A command may begin with the digest of its file: it is written as sudo reads it, and an entry
// counts for the file that has it.
func TestDigested(t *testing.T) {
	const a, b = "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad", "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855"
	for command, written := range map[string]string{
		"sha256:" + a + " /opt/gauge/reset north:1":                        "sha256:" + a + ` /opt/gauge/reset north\:1`,
		"sha256:ungWv48Bz+pBQUDeXa4iI7ADYaOWF3qctBD/YfIAFa0= /opt/gauge/x": "sha256:" + a + " /opt/gauge/x",
	} {
		d, rest, has := Digested(command)
		assert.True(t, has, command)
		assert.Equal(t, Digest{"sha256", a}, d)
		assert.True(t, strings.HasPrefix(rest, "/opt/"))
		assert.Equal(t, written, Written(command))
		c, err := ParseCommand(written)
		require.NoError(t, err)
		assert.Equal(t, []Digest{{"sha256", a}}, c.Digests)
		assert.Equal(t, written, c.String())
	}
	for _, command := range []string{"/opt/x", "sha256:" + a, "sha256:" + a[:10] + " /opt/x", "sha256:" + a + "/opt/x", "md5:" + a + " /opt/x", "x sha256:" + a + " /opt/x", ""} {
		_, rest, has := Digested(command)
		assert.False(t, has, command)
		assert.Equal(t, command, rest)
	}
	for _, c := range []struct {
		entry, asked string
		want         privilege.Answer
	}{
		{"sha256:" + a + " /opt/x", "sha256:" + a + " /opt/x", privilege.AnswerYes},
		{"sha256:" + a + " /opt/x", "sha256:" + b + " /opt/x", privilege.AnswerNo},
		{"sha256:" + b + ", sha256:" + a + " /opt/x", "sha256:" + a + " /opt/x", privilege.AnswerYes},
		{"sha512:" + a + a + " /opt/x", "sha256:" + a + " /opt/x", privilege.AnswerUnsure},
		{"sha256:" + a + " /opt/x", "/opt/x", privilege.AnswerUnsure},
		{"/opt/x", "sha256:" + a + " /opt/x", privilege.AnswerYes},
		{"ALL", "sha256:" + a + " /opt/x", privilege.AnswerYes},
		{"sha256:" + a + " /opt/x \"\"", "sha256:" + a + " /opt/x y", privilege.AnswerNo},
		{"sha256:" + a + " /opt/y", "sha256:" + a + " /opt/x", privilege.AnswerNo},
	} {
		assert.Equal(t, c.want, Matches(privilege.Entry{Verb: privilege.VerbRun, What: c.entry, As: "root"}, privilege.Question{Verb: privilege.VerbRun, What: c.asked}), "%s for %s", c.entry, c.asked)
	}
}

// Whether a right counts at all is asked of what is about something, and no pattern.
func TestWhether(t *testing.T) {
	on := []privilege.Object{{Kind: privilege.ObjectSystem, Name: "quay1"}}
	q, may := Whether(privilege.Right{Verb: privilege.VerbRun, What: "/opt/x a", As: "tide, root", Objects: on}, true)
	assert.True(t, may)
	assert.Equal(t, privilege.Question{Verb: privilege.VerbRun, What: "/opt/x a", As: "tide", Object: on[0]}, q)
	q, may = Whether(privilege.Right{Verb: "run", What: "acl list", Objects: on}, false)
	assert.True(t, may)
	assert.Equal(t, "acl list", q.What)
	for _, r := range []privilege.Right{{What: "/x", Objects: on, Deny: true}, {Objects: on}, {What: "/x"}, {What: "/x*", Objects: on}, {Verb: privilege.VerbRun, What: "!", Objects: on}} {
		_, may := Whether(r, true)
		assert.False(t, may, "%+v", r)
	}
}
