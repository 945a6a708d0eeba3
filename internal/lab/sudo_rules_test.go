package lab_test

import (
	"context"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"hash"
	"math/rand/v2"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/privilege/sudo"
	"mossledger.example/moss/internal/lab"
)

// sudoWorld is what rules are made of and asked for.
var (
	sudoUsers  = []sudo.User{sudoUser("berth", "2001", "crew", "3001", "ops", "3003"), sudoUser("tide", "2002", "crew", "3001"), sudoUser("fuel", "2003", "bunker", "3002"), sudoUser("gangway", "2004", "ops", "3003", "night watch", "3004")}
	sudoPaths  = []string{"/opt/tools/alpha", "/opt/tools/beta", "/opt/tools/gamma", "/opt/tools/.hidden", "/opt/tools/al.sh", "/opt/tools/sub/alpha", "/opt/other/alpha", "/usr/local/bin/berth-helper", "/bin/tide,x", "/usr/bin/tide,x"}
	sudoArgs   = [][]string{nil, {"start"}, {"start", "berth.service"}, {"start", "berth"}, {"restart", "berth.service"}, {"-f", "--", "/etc/berth/x"}, {"of=/etc/berth/x"}, {"a,b"}, {"start", "tide.service", "now"}, {"42"}, {"START"}, {"a:b"}, {`b*`}, {"x#y"}, {"!x"}, {"start", ""}}
	sudoRunAs  = []string{"", "root", "berth", "fuel", "tide"}
	sudoHostIs = sudo.Host{Name: "rules", Addresses: []netip.Prefix{netip.MustParsePrefix("10.213.78.30/24")}}
)

func sudoUser(name, uid string, groups ...string) sudo.User {
	u := sudo.User{Name: name, UID: uid, Groups: []string{name}, GIDs: []string{uid}}
	for i := 0; i < len(groups); i += 2 {
		u.Groups, u.GIDs = append(u.Groups, groups[i]), append(u.GIDs, groups[i+1])
	}
	return u
}

// ruleMaker writes rules as a person might, and some as nobody would.
type ruleMaker struct {
	*rand.Rand
	digests map[string]map[string]string // by path and algorithm
	users   []string                     // aliases
	runAs   []string
	hosts   []string
	cmnds   []string
}

func (m *ruleMaker) one(of ...string) string { return of[m.IntN(len(of))] }

func (m *ruleMaker) some(n int, item func() string) string {
	var out []string
	for range 1 + m.IntN(n) {
		out = append(out, strings.Repeat("!", max(0, m.IntN(8)-5))+item())
	}
	return strings.Join(out, m.one(",", ", ", " , "))
}

func (m *ruleMaker) user() string {
	return m.one(append([]string{"berth", "tide", "fuel", "gangway", "%crew", "%ops", "%bunker", "#2001", "#2003", "%#3001", "%#3003", "ALL", "root", "nobody", `%night\ watch`, `"%night watch"`, "BERTH", "UNDEFINED"}, m.users...)...)
}

func (m *ruleMaker) host() string {
	return m.one(append([]string{"ALL", "ALL", "ALL", "rules", "RULES", "elsewhere", "rul*", "r?les", "[a-q]*", "10.213.78.30", "10.213.78.0", "10.213.78.0/24", "10.213.78.0/255.255.255.0", "10.213.79.0/24", "10.213.78.31", "rules.larkmoor.example"}, m.hosts...)...)
}

func (m *ruleMaker) as() string {
	user := func() string {
		return m.one(append([]string{"root", "berth", "fuel", "ALL", "%crew", "#2003", "tide", "#0"}, m.runAs...)...)
	}
	switch m.IntN(7) {
	case 0:
		return "()"
	case 1:
		return "(" + m.some(2, user) + " : " + m.one("crew", "ops", "ALL") + ")"
	case 2:
		return "(: ops)"
	}
	return "(" + m.some(3, user) + ")"
}

func (m *ruleMaker) arg(a []string) string {
	escape := strings.NewReplacer(`\`, `\\`, ",", `\,`, ":", `\:`, "=", `\=`, "#", `\#`)
	joined := escape.Replace(strings.Join(a, " "))
	switch m.IntN(9) {
	case 0:
		return m.one("*", "start *", "* berth.service", "-f*", "?tart", "[a-z]*", "[!a-z]*", "[[:digit:]]*", `\*`, `b\*`, "start  berth.service", "start*")
	case 1:
		return m.one("^start$", "^(re)?start [a-z.]+$", "^[0-9]{1,3}$", "^of=/etc/berth/.*$", "^a[,:]b$", "^(?i)start$", "^$", `^start( berth\.service)?$`, `^x\#y$`)
	case 2:
		return `""`
	case 3:
		if len(joined) > 2 {
			return joined[:len(joined)-1] // a near miss
		}
	}
	return joined
}

func (m *ruleMaker) command() string {
	p := m.one(sudoPaths...)
	shown := strings.ReplaceAll(p, ",", `\,`)
	switch m.IntN(14) {
	case 0:
		return "ALL"
	case 1:
		return m.one("/opt/tools/", "/opt/", "/usr/local/bin/", "/opt/tools/sub/", "/opt/*/")
	case 2:
		return m.one("/opt/tools/*", "/opt/tools/?lpha", "/opt/*/alpha", "/opt/tools/[ab]*", "/opt/tools/*.sh", "/opt/tools/.*", "/opt/tools/sub/*", "/opt/tools/**", "/opt/t*") + m.one("", " start", " *", ` ""`)
	case 3:
		return m.one(`^/opt/tools/(alpha|beta)$`, `^/opt/.*$`, `^/usr/(local/)?bin/.*$`, `^/opt/tools/[[:alpha:]]+$`) + m.one("", " start", " ^start.*$", ` ""`)
	case 4:
		algorithm := m.one("sha224", "sha256", "sha384", "sha512")
		sum := m.digests[m.one(p, p, sudoPaths[0])][algorithm]
		if raw, err := hex.DecodeString(sum); err == nil && m.IntN(2) == 0 {
			sum = base64.StdEncoding.EncodeToString(raw)
		}
		return algorithm + ":" + sum + " " + m.one("", "", "!") + m.one(shown, shown, "ALL")
	case 5, 6:
		if len(m.cmnds) > 0 {
			return m.one(m.cmnds...)
		}
	}
	if m.IntN(3) == 0 {
		return shown
	}
	return strings.TrimRight(shown+" "+m.arg(sudoArgs[m.IntN(len(sudoArgs))]), " ")
}

func (m *ruleMaker) alias(kind, prefix string, names *[]string, n int, item func() string) string {
	name := fmt.Sprint(prefix, len(*names))
	line := kind + " " + name + " = " + m.some(n, item)
	if m.IntN(6) == 0 { // two in one line
		more := fmt.Sprint(prefix, len(*names)+1)
		line += " : " + more + "=" + m.some(n, item)
		*names = append(*names, more)
	}
	*names = append(*names, name)
	return line
}

func (m *ruleMaker) spec() string {
	part := func() string {
		var commands []string
		for range 1 + m.IntN(3) {
			c := strings.Repeat("!", max(0, m.IntN(9)-7)) + m.command()
			if m.IntN(3) == 0 {
				c = m.one("NOPASSWD:", "NOPASSWD: ", "PASSWD:", "SETENV: NOPASSWD: ", "NOEXEC:", "NOPASSWD : ", "LOG_OUTPUT:", "TIMEOUT=5m ", "NOTAFTER=20991231235959Z ", "NOTAFTER=20011231235959Z ", "CWD=/tmp ") + c
			}
			if m.IntN(4) == 0 {
				c = m.as() + m.one("", " ") + c
			}
			commands = append(commands, c)
		}
		return m.some(2, m.host) + m.one("=", " = ") + strings.Join(commands, m.one(",", ", ", ", \\\n    "))
	}
	line := m.some(3, m.user) + " " + part()
	for m.IntN(6) == 0 {
		line += " : " + part()
	}
	return line + m.one("", "", " # a remark", "\t")
}

// set is one policy, in one file or several.
func (m *ruleMaker) set() map[string]string {
	m.users, m.runAs, m.hosts, m.cmnds = nil, nil, nil, nil
	var lines []string
	for range m.IntN(5) {
		switch m.IntN(4) {
		case 0:
			lines = append(lines, m.alias("User_Alias", "CREW", &m.users, 3, m.user))
		case 1:
			lines = append(lines, m.alias("Runas_Alias", "AS", &m.runAs, 2, func() string { return m.one("root", "berth", "fuel", "%crew", "ALL") }))
		case 2:
			lines = append(lines, m.alias("Host_Alias", "QUAY", &m.hosts, 3, m.host))
		case 3:
			lines = append(lines, m.alias("Cmnd_Alias", "TOOLS", &m.cmnds, 3, m.command))
		}
	}
	for range 1 + m.IntN(7) {
		lines = append(lines, m.spec())
	}
	if m.IntN(4) == 0 {
		lines = append(lines, m.one("Defaults !authenticate", "Defaults:berth,tide !authenticate", "Defaults runas_default=berth", "Defaults:%crew runas_default=fuel", "Defaults@rules !lecture", "Defaults!/opt/tools/alpha !authenticate", "Defaults>fuel !authenticate", "# Defaults !authenticate"))
	}
	if m.IntN(3) == 0 { // what sudo passes over
		lines = append(lines, m.one("berth ALL = alpha", "tide = ALL", "fuel ALL=(root /opt/tools/alpha", "ALL ALL=/opt/tools/alpha a=b", "User_Alias lower = berth", "gangway ALL=sha256:1234 /opt/tools/alpha", "Cmnd_Alias = /bin/true", "gangway ALL=/opt/tools/ start", "berth ALL=NOSUCH", "fuel ALL=ALL : ALL=!/opt/tools/beta of=/etc/berth/x", "fuel ALL=ALL : ALL=!/opt/tools/beta a=b x", "tide ALL=ALL : ALL=(root /opt/tools/beta", "tide ALL=ALL : ALL : ALL=!ALL", "berth ALL=ALL, (root !ALL", "User_Alias CREW7=berth : CREW8=:\nCREW7 ALL=ALL", "Cmnd_Alias TOOLS7=ALL : TOOLS8=x\nberth ALL=TOOLS7", "User_Alias CREW7=berth )\nCREW7 ALL=ALL", "fuel ALL=ALL : ALL=(root : tide ALL=ALL", "ALL ALL=ALL,", "tide ALL=ALL )", "Defaults !authenticate, =3", "User_Alias CREW0 = ALL"))
	}
	m.Shuffle(len(lines), func(i, j int) { lines[i], lines[j] = lines[j], lines[i] })
	if m.IntN(3) > 0 {
		return map[string]string{"/etc/sudoers": strings.Join(lines, "\n") + "\n"}
	}
	cut, end := m.IntN(len(lines)+1), len(lines)
	return map[string]string{
		"/etc/sudoers":            strings.Join(lines[:cut], "\n") + "\n" + m.one("@includedir /etc/sudoers.d", "#includedir /etc/sudoers.d", "@includedir sudoers.d", "@include /etc/sudoers.%h\n@includedir /etc/sudoers.d") + "\n",
		"/etc/sudoers.d/20-b":     strings.Join(lines[cut+(end-cut)/2:], "\n") + "\n",
		"/etc/sudoers.d/10-a":     strings.Join(lines[cut:cut+(end-cut)/2], "\n") + "\n",
		"/etc/sudoers.d/30-c.off": "ALL ALL=(ALL) ALL\n",
		"/etc/sudoers.d/40-d~":    "ALL ALL=(ALL) ALL\n",
		"/etc/sudoers.rules":      "tide ALL=/opt/tools/beta\n",
	}
}

// sudoFiles answers for a set as the host's files do.
func sudoFiles(set map[string]string) sudo.Include {
	return func(p string, dir bool) ([]sudo.File, error) {
		if !dir {
			if text, there := set[p]; there {
				return []sudo.File{{Path: p, Text: text}}, nil
			}
			return nil, os.ErrNotExist
		}
		var out []sudo.File
		for name, text := range set {
			if filepath.Dir(name) == p {
				out = append(out, sudo.File{Path: name, Text: text})
			}
		}
		slices.SortFunc(out, func(a, b sudo.File) int { return strings.Compare(a.Path, b.Path) })
		return out, nil
	}
}

type sudoQuestion struct {
	set   int
	user  sudo.User
	runAs string
	path  string
	args  []string
}

// asRoot says why `sudo -l -U`, which root asks, may answer for root and not for the user
// (seen in 1.9.13): then what the user himself is told counts.
func asRoot(p *sudo.Policy) string {
	if slices.ContainsFunc(p.Rules, func(r sudo.Rule) bool { return len(r.RunAs) == 1 && r.RunAs[0].Kind == sudo.ItemSelf }) {
		return "a rule () is compared with root"
	}
	if slices.ContainsFunc(p.Defaults, func(d sudo.Default) bool { return d.Name == "runas_default" && d.Scope == "user" }) {
		return "a setting of users is that of root"
	}
	return ""
}

// TestSudoVerdicts asks the sudo of a real host what 300 generated sets of rules allow,
// by `sudo -l -U` and by running what it allows without a password, and compares.
func TestSudoVerdicts(t *testing.T) {
	const sets, each = 300, 8
	seed := uint64(20261129)
	if other := os.Getenv("MOSS_SEED"); other != "" { // to look further than the suite does
		_, err := fmt.Sscan(other, &seed)
		require.NoError(t, err)
	}
	h := lab.NewHost(t, "rules", 30)
	for i, g := range []string{"crew", "bunker", "ops"} {
		h.Shell(t, fmt.Sprintf("groupadd -g %d %s", 3001+i, g))
	}
	for _, u := range sudoUsers {
		h.Shell(t, "useradd -M -s /bin/sh -u "+u.UID+" "+u.Name)
	}
	h.Shell(t, "echo 'night watch:x:3004:gangway' >> /etc/group; usermod -aG crew,ops berth; usermod -aG crew tide; usermod -aG bunker fuel; usermod -aG ops gangway; id gangway")
	m := &ruleMaker{Rand: rand.New(rand.NewPCG(seed, 15)), digests: map[string]map[string]string{}}
	for i, p := range sudoPaths {
		if strings.HasPrefix(p, "/bin/") { // which is a link
			p = "/usr" + p
		}
		raw := fmt.Sprintf("#!/bin/sh\n# %s\necho ran\n", p)
		h.Write(t, p, raw, 0o755)
		m.digests[sudoPaths[i]] = map[string]string{}
		for name, sum := range map[string]hash.Hash{"sha224": sha256.New224(), "sha256": sha256.New(), "sha384": sha512.New384(), "sha512": sha512.New()} {
			sum.Write([]byte(raw))
			m.digests[sudoPaths[i]][name] = hex.EncodeToString(sum.Sum(nil))
		}
	}
	world := sudo.World{
		Digest:   func(algorithm, p string) (string, bool) { s, known := m.digests[p][algorithm]; return s, known },
		NetGroup: func(string, string, string) sudo.Answer { return sudo.No },
		User: func(name string) (sudo.User, bool) {
			for _, u := range sudoUsers {
				if u.Name == name {
					return u, true
				}
			}
			return sudo.User{Name: name, UID: map[string]string{"root": "0"}[name], Groups: []string{name}, GIDs: []string{"0"}}, true
		},
	}
	var policies []*sudo.Policy
	var all []map[string]string
	var questions []sudoQuestion
	var script strings.Builder
	quote := func(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }
	for i := range sets {
		set := m.set()
		all = append(all, set)
		policies = append(policies, sudo.Parse(sudo.File{Path: "/etc/sudoers", Text: set["/etc/sudoers"]}, sudoHostIs.Name, sudoFiles(set)))
		set["/etc/sudoers"] += "Defaults listpw=never\n"
		script.WriteString("rm -rf /etc/sudoers.d /etc/sudoers.rules; mkdir /etc/sudoers.d\n")
		for name, text := range set {
			fmt.Fprintf(&script, "printf %%s %s > %s; chmod 440 %s\n", quote(text), quote(name), quote(name))
		}
		fmt.Fprintf(&script, "visudo -c >/root/check.%d 2>&1 || :\n", i)
		for range each {
			q := sudoQuestion{set: i, user: sudoUsers[m.IntN(len(sudoUsers))], runAs: sudoRunAs[m.IntN(len(sudoRunAs))], path: sudoPaths[m.IntN(len(sudoPaths))], args: sudoArgs[m.IntN(len(sudoArgs))]}
			if m.IntN(2) == 0 {
				q.runAs = ""
			}
			questions = append(questions, q)
			as, words := "", quote(q.path)
			if q.runAs != "" {
				as = "-u " + q.runAs
			}
			for _, a := range q.args {
				words += " " + quote(a)
			}
			own := "setpriv --reuid=" + q.user.Name + " --regid=" + q.user.Name + " --init-groups sudo -n"
			fmt.Fprintf(&script, "sudo -l -U %s %s -- %s >/dev/null 2>&1 && printf y || printf n; if %s -l %s -- %s >/dev/null 2>&1; then printf y; [ \"$(%s %s -- %s 2>/dev/null)\" = ran ] && echo n || echo p; else echo o; fi\n", q.user.Name, as, words, own, as, words, own, as, words)
		}
	}
	h.Write(t, "/root/ask.sh", script.String(), 0o700)
	h.Boot(t)
	ctx, cancel := context.WithTimeout(t.Context(), 8*time.Minute)
	defer cancel()
	out, err := h.TryShell(ctx, "sh /root/ask.sh")
	require.NoError(t, err)
	answers := strings.Fields(out)
	require.Len(t, answers, len(questions))
	counts, shown, differences := map[string]int{}, map[int]int{}, 0
	for i, q := range questions {
		v := policies[q.set].Allows(sudoHostIs, sudo.Ask{User: q.user, Command: q.path, Args: q.args, RunAs: q.runAs, Now: "20261129120000Z"}, world)
		want := map[bool]string{true: "yyp", false: "no"}[v.Allowed]
		if v.Allowed && v.NoPassword {
			want = "yyn"
		}
		if why := asRoot(policies[q.set]); why != "" && answers[i][1:] == want[1:] && answers[i][:1] != want[:1] {
			counts[why]++
			continue
		}
		counts[answers[i]]++
		assert.Empty(t, v.Unsure)
		if want != answers[i] {
			differences++
			if shown[q.set]++; shown[q.set] <= 1 && len(shown) <= 12 {
				rule := "none"
				if v.Rule != nil {
					rule = v.Rule.Place + " " + v.Rule.Text
				}
				var text string
				for name, content := range all[q.set] {
					text += "--- " + name + "\n" + content
				}
				said, _ := os.ReadFile(fmt.Sprintf("%s/root/check.%d", h.Root, q.set))
				text += string(said)
				t.Errorf("set %d: %s as %q runs %s %q: sudo says %s, we %s by %s\n%s%v", q.set, q.user.Name, q.runAs, q.path, q.args, answers[i], want, rule, text, policies[q.set].Problems)
			}
		}
	}
	t.Logf("%d sets, %d questions, %v, %d differences", sets, len(questions), counts, differences)
	assert.Zero(t, differences)
	assert.Greater(t, counts["yyn"]+counts["yyp"], len(questions)/10)
}
