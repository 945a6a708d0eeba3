package lab_test

import (
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"unicode/utf16"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect/directory"
	"mossledger.example/moss/internal/connect/directory/rights"
	"mossledger.example/moss/internal/connect/directory/values"
	"mossledger.example/moss/internal/core/privilege"
	"mossledger.example/moss/internal/core/privilege/descriptor"
	"mossledger.example/moss/internal/lab"
)

// decode has the descriptors on standard input, each in base64 on its own line, told by
// Samba's own decoder.
const decode = `
import sys, base64
from samba.ndr import ndr_unpack
from samba.dcerpc import security
for line in sys.stdin:
    d = ndr_unpack(security.descriptor, base64.b64decode(line))
    out = ["O:%s G:%s" % (d.owner_sid, d.group_sid)]
    for a in d.dacl.aces:
        obj = inh = ""
        if a.type in (5, 6, 7):
            if a.object.flags & 1: obj = str(a.object.type)
            if a.object.flags & 2: inh = str(a.object.inherited_type)
        out.append("%d %d %d %s %s %s" % (a.type, a.flags, a.access_mask & 0xffffffff, obj, inh, a.trustee))
    print("|".join(out))
`

func utf16Quoted(password string) string {
	var out []byte
	for _, c := range utf16.Encode([]rune(`"` + password + `"`)) {
		out = binary.LittleEndian.AppendUint16(out, c)
	}
	return base64.StdEncoding.EncodeToString(out)
}

func bound(t *testing.T, d *lab.Directory, user, password string) *ldap.Conn {
	t.Helper()
	pool := x509.NewCertPool()
	require.True(t, pool.AppendCertsFromPEM([]byte(d.CA)))
	conn, err := ldap.DialURL("ldaps://"+d.Address+":636", ldap.DialWithTLSConfig(&tls.Config{RootCAs: pool, ServerName: d.Address}))
	require.NoError(t, err)
	t.Cleanup(func() { _ = conn.Close() })
	require.NoError(t, conn.Bind(user, password))
	return conn
}

func search(t *testing.T, conn *ldap.Conn, base string, scope int, filter string, controls []ldap.Control, attributes ...string) []*ldap.Entry {
	t.Helper()
	r, err := conn.SearchWithPaging(ldap.NewSearchRequest(base, scope, ldap.NeverDerefAliases, 0, 0, false, filter, attributes, controls), 500)
	require.NoError(t, err)
	return r.Entries
}

// TestDirectoryRights generates a domain with groups in groups, in circles and twelve deep,
// and with entries for control rights in descriptors, and compares what we say with what
// the directory itself does: the groups of a token, searches in chain, the attributes that
// somebody may write, attempts, and descriptors as Samba's own decoder has them.
func TestDirectoryRights(t *testing.T) {
	const levels, binders = 12, 12
	perLevel, people := 25, 900
	if other := os.Getenv("MOSS_OBJECTS"); other != "" { // a larger domain than the suite has time for
		all, err := strconv.Atoi(other)
		require.NoError(t, err)
		perLevel = all / 8 / levels
		people = all - levels*perLevel
	}
	d := lab.Samba(t, "127.0.0.154")
	r := rand.New(rand.NewPCG(15, 20))
	var ldif strings.Builder
	group := func(level, i int) string {
		return fmt.Sprintf("CN=g%d-%d,OU=Service Accounts,%s", level, i, d.Base)
	}
	person := func(i int) string { return fmt.Sprintf("CN=p%d,OU=Service Accounts,%s", i, d.Base) }
	for i := range people {
		fmt.Fprintf(&ldif, "dn: %s\nobjectClass: user\nsAMAccountName: p%d\nuserAccountControl: 512\n", person(i), i)
		if i < binders {
			fmt.Fprintf(&ldif, "unicodePwd:: %s\n", utf16Quoted("Person-Passw0rd-1"))
		} else {
			ldif.WriteString("userAccountControl: 544\n")
		}
		ldif.WriteString("\n")
	}
	text := strings.ReplaceAll(ldif.String(), "userAccountControl: 512\nuserAccountControl: 544\n", "userAccountControl: 544\n")
	ldif.Reset()
	for level := range levels {
		for i := range perLevel {
			fmt.Fprintf(&ldif, "dn: %s\nobjectClass: group\nsAMAccountName: g%d-%d\n\n", group(level, i), level, i)
		}
	}
	d.Create(t, text+ldif.String())
	ldif.Reset()
	for level := range levels {
		for i := range perLevel {
			members := map[string]bool{}
			for range 1 + r.IntN(6) {
				members[person(r.IntN(people))] = true
				if level > 0 {
					members[group(level-1, r.IntN(perLevel))] = true
				}
			}
			if level < 3 && i%5 == 0 { // a circle
				members[group(level+1+r.IntN(6), r.IntN(perLevel))] = true
			}
			for n := range binders {
				if r.IntN(40) == 0 {
					members[person(n)] = true
				}
			}
			fmt.Fprintf(&ldif, "dn: %s\nchangetype: modify\nadd: member\n", group(level, i))
			for m := range members {
				fmt.Fprintf(&ldif, "member: %s\n", m)
			}
			ldif.WriteString("\n")
		}
	}
	d.Alter(t, ldif.String())

	manager := bound(t, d, d.Manager, lab.ManagerPassword)
	sids := map[string]string{} // by DN, folded
	var names []string
	for _, e := range search(t, manager, d.Base, ldap.ScopeWholeSubtree, "(objectSid=*)", nil, "objectSid", "sAMAccountName") {
		sids[values.Fold(e.DN)] = values.SIDText(e.GetRawAttributeValue("objectSid"))
		names = append(names, e.DN)
	}
	// Descriptors of objects to be asked for, with entries of every kind for people and groups.
	targets := []string{}
	ldif.Reset()
	for i := range 60 {
		dn := person(binders + i)
		if i%2 == 1 {
			dn = group(r.IntN(levels), r.IntN(perLevel))
		}
		if slices.Contains(targets, dn) {
			continue
		}
		targets = append(targets, dn)
		var sddl strings.Builder
		for range 1 + r.IntN(6) {
			trustee := sids[values.Fold(group(r.IntN(levels), r.IntN(perLevel)))]
			if r.IntN(3) == 0 {
				trustee = sids[values.Fold(person(r.IntN(binders)))]
			}
			kind := pick(r, []string{"A", "A", "A", "D"})
			object := pick(r, []string{"CR;00299570-246d-11d0-a768-00aa006e0529", "WP;bf9679c0-0de6-11d0-a285-00aa003049e2", "WP;f3a64788-5306-11d1-a9c5-0000f80367c1", "WP;bf967a68-0de6-11d0-a285-00aa003049e2", "WP;4c164200-20c0-11d0-a768-00aa006e0529", "WP;bc0ac240-79a9-11d0-9020-00c04fc2d4cf", "WP;", "CR;", "WD;", "WO;", "GA;", "GW;", "WDWO;", "SD;", "RPWP;", "WP;bf967953-0de6-11d0-a285-00aa003049e2"})
			if !strings.HasSuffix(object, ";") {
				kind = "O" + kind
			}
			fmt.Fprintf(&sddl, "(%s;%s;%s;;%s)", kind, pick(r, []string{"", "", "CI", "CIIO"}), object, trustee)
		}
		owner := sids[values.Fold(person(r.IntN(binders)))]
		fmt.Fprintf(&ldif, "dn: %s\nchangetype: modify\nreplace: nTSecurityDescriptor\nnTSecurityDescriptor: O:%sG:DUD:P%s(A;;RPLCRC;;;AU)\n\n", dn, owner, canonical(sddl.String()))
	}
	d.Alter(t, ldif.String())

	model, coverage := modelOf(t, directory.Connector{}, d.Target("domain"), nil)
	assert.True(t, coverage.Complete, coverage.Why)
	ids := map[string]string{}
	sidOf := map[string]string{}
	for _, e := range search(t, manager, d.Base, ldap.ScopeWholeSubtree, "(|(objectClass=user)(objectClass=group))", nil, "objectGUID", "objectSid", "sAMAccountName") {
		id := values.GUIDText(e.GetRawAttributeValue("objectGUID"))
		ids[values.Fold(e.DN)] = id
		sidOf[id] = values.SIDText(e.GetRawAttributeValue("objectSid"))
	}

	memberships := 0
	for i := range 60 {
		dn := person(i * people / 60)
		var want []string
		for _, e := range search(t, manager, dn, ldap.ScopeBaseObject, "(objectClass=*)", nil, "tokenGroups") {
			for _, raw := range e.GetRawAttributeValues("tokenGroups") {
				want = append(want, values.SIDText(raw))
			}
		}
		var got []string
		for _, chain := range model.Graph.Effective(ids[values.Fold(dn)]) {
			last := chain[len(chain)-1]
			if slices.ContainsFunc(chain, func(l privilege.Link) bool { return l.Kind == privilege.KindEveryone }) {
				continue // what whoever has signed in lies in; a token is made at sign-in
			}
			got = append(got, sidOf[last.ID])
		}
		memberships += len(want)
		assert.ElementsMatch(t, want, got, dn)
	}
	for n := range 40 { // one group at a time: over the whole domain the search takes minutes
		dn, of := person(n*people/40), group(r.IntN(levels), r.IntN(perLevel))
		in := len(search(t, manager, of, ldap.ScopeBaseObject, "(member:1.2.840.113556.1.4.1941:="+ldap.EscapeFilter(dn)+")", nil, "cn")) > 0
		got := slices.ContainsFunc(model.Graph.Effective(ids[values.Fold(dn)]), func(chain []privilege.Link) bool { return chain[len(chain)-1].ID == ids[values.Fold(of)] })
		assert.Equal(t, in, got, "%s in %s", dn, of)
	}

	asked, differ := 0, 0
	for b := range binders {
		conn := bound(t, d, fmt.Sprintf("p%d@larkmoor.example", b), "Person-Passw0rd-1")
		id := ids[values.Fold(person(b))]
		for _, dn := range targets {
			entries := search(t, conn, dn, ldap.ScopeBaseObject, "(objectClass=*)", nil, "allowedAttributesEffective", "sDRightsEffective")
			if len(entries) == 0 { // it may not see the object
				continue
			}
			name := strings.TrimPrefix(strings.Split(dn, ",")[0], "CN=")
			writable := entries[0].GetAttributeValues("allowedAttributesEffective")
			var bits int
			_, _ = fmt.Sscan(entries[0].GetAttributeValue("sDRightsEffective"), &bits)
			said := map[string]bool{descriptor.VerbTakeOwnership: bits&1 != 0, descriptor.VerbChangeRules: bits&4 != 0}
			if strings.HasPrefix(name, "p") {
				said[descriptor.VerbWriteNames], said[descriptor.VerbWriteControl] = slices.Contains(writable, "servicePrincipalName"), slices.Contains(writable, "userAccountControl")
			} else {
				said[descriptor.VerbWriteMembers] = slices.Contains(writable, "member")
			}
			for verb, yes := range said {
				asked++
				decision := model.Decide(id, privilege.Question{Verb: verb, Object: privilege.Object{Name: name}})
				if decision.Allowed != yes {
					if differ++; differ < 12 {
						t.Errorf("p%d %s %s: the directory says %v (%d, %v), we %+v", b, verb, dn, yes, bits, writable, decision)
					}
				}
			}
		}
	}
	t.Logf("%d memberships, %d answers of the directory, %d differ", memberships, asked, differ)

	attempts, allowed := 0, 0
	for b := range binders {
		conn := bound(t, d, fmt.Sprintf("p%d@larkmoor.example", b), "Person-Passw0rd-1")
		for i, dn := range targets {
			if !strings.HasPrefix(dn, "CN=p") {
				continue
			}
			change := ldap.NewModifyRequest(dn, nil)
			raw, err := base64.StdEncoding.DecodeString(utf16Quoted(fmt.Sprintf("Another-Passw0rd-%d-%d", b, i)))
			require.NoError(t, err)
			change.Replace("unicodePwd", []string{string(raw)})
			err = conn.Modify(change)
			name := strings.TrimPrefix(strings.Split(dn, ",")[0], "CN=")
			decision := model.Decide(ids[values.Fold(person(b))], privilege.Question{Verb: descriptor.VerbResetPassword, Object: privilege.Object{Name: name}})
			attempts++
			if err == nil {
				allowed++
			}
			assert.Equal(t, err == nil, decision.Allowed, "p%d resets %s: %v, %+v", b, dn, err, decision)
		}
	}
	t.Logf("%d attempts to reset a password, %d worked", attempts, allowed)
	assert.Positive(t, allowed)

	var raws [][]byte
	for _, e := range search(t, manager, d.Base, ldap.ScopeWholeSubtree, "(objectClass=*)", []ldap.Control{rights.OwnerAndRules}, "nTSecurityDescriptor") {
		if raw := e.GetRawAttributeValue("nTSecurityDescriptor"); len(raw) > 0 {
			raws = append(raws, raw)
		}
	}
	require.Greater(t, len(raws), 1000)
	script := filepath.Join(t.TempDir(), "decode.py")
	require.NoError(t, os.WriteFile(script, []byte(decode), 0o600))
	cmd := exec.Command("/usr/bin/python3", script)
	var in strings.Builder
	var ours []string
	for _, raw := range raws {
		in.WriteString(base64.StdEncoding.EncodeToString(raw) + "\n")
		one, err := descriptor.Parse(raw)
		require.NoError(t, err)
		require.Equal(t, raw, one.Bytes(), "byte for byte")
		line := fmt.Sprintf("O:%s G:None", one.Owner) // the group was not asked for
		for _, e := range one.Rules.Entries {
			object, inherits := "", ""
			if e.Object != nil {
				object = e.Object.String()
			}
			if e.Inherits != nil {
				inherits = e.Inherits.String()
			}
			line += fmt.Sprintf("|%d %d %d %s %s %s", e.Type, e.Flags, e.Mask, object, inherits, e.Trustee)
		}
		ours = append(ours, line)
	}
	cmd.Stdin = strings.NewReader(in.String())
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	theirs := strings.Split(strings.TrimSpace(string(out)), "\n")
	require.Len(t, theirs, len(ours))
	for i := range ours {
		require.Equal(t, theirs[i], ours[i])
	}
	t.Logf("%d descriptors of %d objects", len(raws), len(names))
}

// canonical puts entries that deny before those that allow, as the directory keeps them.
func canonical(sddl string) string {
	entries := strings.SplitAfter(sddl, ")")
	slices.SortStableFunc(entries, func(a, b string) int {
		deny := func(e string) int {
			if strings.HasPrefix(e, "(D;") || strings.HasPrefix(e, "(OD;") {
				return 0
			}
			return 1
		}
		return deny(a) - deny(b)
	})
	return strings.Join(entries, "")
}
