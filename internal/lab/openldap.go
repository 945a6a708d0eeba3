package lab

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// OpenLDAP starts a directory with TLS, the password policy overlay and the
// given accounts. history is how many passwords it remembers; entries adds that many further people, for benchmarks.
func OpenLDAP(t testing.TB, address string, port, history, entries int, accounts ...string) *Directory {
	t.Helper()
	return openLDAP(t, address, port, history, entries, accounts, nil, false)
}

// ruled has other access rules in the first database, and lets the manager read them.
func ruled(config, rules string) string {
	from := strings.Index(config, "olcAccess: {0}to dn.children=\"ou=hidden")
	to := from + strings.Index(config[from:], "\n\n")
	config = config[:from] + strings.TrimSuffix(rules, "\n") + config[to:]
	own := "dn: olcDatabase={0}config,cn=config\nobjectClass: olcDatabaseConfig\nolcDatabase: {0}config\nolcAccess: {0}to dn.subtree=\"cn=config\" attrs=entry,objectClass,olcDatabase,olcSuffix,olcAccess,olcRootDN by dn.exact=\"uid=mossmgr,ou=people,dc=larkmoor,dc=example\" read by * break\n\n"
	return strings.Replace(config, "dn: olcDatabase={1}mdb,cn=config", own+"dn: olcDatabase={1}mdb,cn=config", 1)
}

// RuledOpenLDAP starts a directory with access rules of its own, as lines of olcAccess.
func RuledOpenLDAP(t testing.TB, address string, port int, rules, entries string) *Directory {
	t.Helper()
	return openLDAP(t, address, port, 0, 0, nil, nil, false, rules, entries)
}

// MayWrite asks the server's own tool whether somebody may write an attribute of an entry.
func (d *Directory) MayWrite(t testing.TB, who, entry, attribute string) bool {
	t.Helper()
	out, err := exec.CommandContext(t.Context(), "slapacl", "-F", d.folder+"/slapd.d", "-D", who, "-b", entry, attribute+"/write").CombinedOutput()
	text := string(out)
	require.True(t, strings.Contains(text, "ALLOWED") || strings.Contains(text, "DENIED"), "%v: %s", err, text)
	return strings.Contains(text, "ALLOWED")
}

// database is a further naming context of a directory.
type database struct{ suffix, access, data string }

// openLDAP starts one with further databases, and further entries in the first.
func openLDAP(t testing.TB, address string, port, history, entries int, accounts []string, further []database, replicated bool, more ...string) *Directory {
	t.Helper()
	Require(t)
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Minute)
	defer cancel()
	folder := t.TempDir()
	d := &Directory{Address: address, Port: port, Base: "dc=larkmoor,dc=example", folder: folder, Manager: "uid=mossmgr,ou=people,dc=larkmoor,dc=example"}
	for _, sub := range []string{"/slapd.d", "/db", "/run"} {
		require.NoError(t, os.MkdirAll(folder+sub, 0o700))
	}
	authority, err := newAuthority(ctx, filepath.Join(folder, "ca"))
	require.NoError(t, err)
	d.CA = authority.PEM
	require.NoError(t, authority.issue(ctx, folder+"/tls", "ldap.larkmoor.example", address))
	config := slapdConfig(folder)
	d.authority = authority
	var texts []string
	for _, text := range more {
		if !strings.HasPrefix(text, "olcAccess: ") {
			texts = append(texts, text)
			continue
		}
		config = ruled(config, text)
	}
	more = texts
	if replicated {
		config += providing
	}
	for i, database := range further {
		require.NoError(t, os.MkdirAll(fmt.Sprintf("%s/db%d", folder, i+2), 0o700))
		config += fmt.Sprintf("\ndn: olcDatabase={%[1]d}mdb,cn=config\nobjectClass: olcDatabaseConfig\nobjectClass: olcMdbConfig\nolcDatabase: {%[1]d}mdb\nolcDbDirectory: %[2]s/db%[1]d\nolcDbNoSync: TRUE\nolcSuffix: %[3]s\nolcDbIndex: objectClass,uid,entryUUID eq\nolcAccess: {0}%[4]s\n", i+2, folder, database.suffix, database.access)
	}
	_, err = run(ctx, config, "slapadd", "-n", "0", "-F", folder+"/slapd.d")
	require.NoError(t, err)
	_, err = run(ctx, slapdData(d, history, entries, accounts)+strings.Join(more, ""), "slapadd", "-q", "-n", "1", "-F", folder+"/slapd.d")
	require.NoError(t, err)
	for i, database := range further {
		_, err = run(ctx, database.data, "slapadd", "-q", "-n", fmt.Sprint(i+2), "-F", folder+"/slapd.d")
		require.NoError(t, err)
	}
	d.start(t, "slapd", "-d", "0", "-F", folder+"/slapd.d", "-h", fmt.Sprintf("ldaps://%s:%d", address, port))
	d.wait(ctx, t)
	return d
}

func slapdConfig(folder string) string {
	return fmt.Sprintf(`dn: cn=config
objectClass: olcGlobal
cn: config
olcPidFile: %[1]s/run/slapd.pid
olcTLSCACertificateFile: %[1]s/tls/ca.pem
olcTLSCertificateFile: %[1]s/tls/cert.pem
olcTLSCertificateKeyFile: %[1]s/tls/key.pem
olcTLSVerifyClient: never
olcSecurity: simple_bind=128

dn: cn=module{0},cn=config
objectClass: olcModuleList
cn: module{0}
olcModulePath: /usr/lib/ldap
olcModuleLoad: back_mdb.la
olcModuleLoad: ppolicy.la

dn: cn=schema,cn=config
objectClass: olcSchemaConfig
cn: schema

include: file:///etc/ldap/schema/core.ldif
include: file:///etc/ldap/schema/cosine.ldif
include: file:///etc/ldap/schema/nis.ldif
include: file:///etc/ldap/schema/inetorgperson.ldif

dn: olcDatabase={-1}frontend,cn=config
objectClass: olcDatabaseConfig
objectClass: olcFrontendConfig
olcDatabase: {-1}frontend
olcPasswordHash: {SSHA}
olcSizeLimit: unlimited
olcAccess: {0}to dn.base="" by * read
olcAccess: {1}to dn.base="cn=subschema" by * read

dn: olcDatabase={1}mdb,cn=config
objectClass: olcDatabaseConfig
objectClass: olcMdbConfig
olcDatabase: {1}mdb
olcDbDirectory: %[1]s/db
olcDbMaxSize: 1073741824
olcDbNoSync: TRUE
olcSuffix: dc=larkmoor,dc=example
olcRootDN: cn=admin,dc=larkmoor,dc=example
olcRootPW: %[2]s
olcLastBind: TRUE
olcDbIndex: objectClass,uid,entryUUID eq
olcLimits: {0}dn.exact="uid=mossmgr,ou=people,dc=larkmoor,dc=example" size=unlimited
olcAccess: {0}to dn.children="ou=hidden,dc=larkmoor,dc=example" attrs=pwdAccountLockedTime by * none
olcAccess: {1}to dn.children="ou=services,dc=larkmoor,dc=example" attrs=userPassword,pwdAccountLockedTime,pwdReset,pwdEndTime by dn.exact="uid=mossmgr,ou=people,dc=larkmoor,dc=example" write by self write by anonymous auth by * none
olcAccess: {2}to attrs=userPassword by self write by anonymous auth by * none
olcAccess: {3}to dn.children="ou=groups,dc=larkmoor,dc=example" attrs=member,uniqueMember,memberUid by dn.exact="uid=mossmgr,ou=people,dc=larkmoor,dc=example" write by users read by * none
olcAccess: {4}to * by users read by * none

dn: olcOverlay={0}ppolicy,olcDatabase={1}mdb,cn=config
objectClass: olcOverlayConfig
objectClass: olcPPolicyConfig
olcOverlay: {0}ppolicy
olcPPolicyDefault: cn=default,ou=policies,dc=larkmoor,dc=example
olcPPolicyHashCleartext: TRUE
olcPPolicyUseLockout: TRUE
`, folder, ManagerPassword)
}

func slapdData(d *Directory, history, entries int, accounts []string) string {
	var out strings.Builder
	fmt.Fprintf(&out, "dn: %s\nobjectClass: domain\ndc: larkmoor\n\n", d.Base)
	for _, ou := range []string{"policies", "people", "services", "groups"} {
		fmt.Fprintf(&out, "dn: ou=%s,%s\nobjectClass: organizationalUnit\nou: %s\n\n", ou, d.Base, ou)
	}
	fmt.Fprintf(&out, "dn: cn=default,ou=policies,%s\nobjectClass: device\nobjectClass: pwdPolicy\ncn: default\npwdAttribute: userPassword\npwdMaxAge: 7776000\npwdMinLength: 12\npwdCheckQuality: 2\npwdInHistory: %d\npwdLockout: TRUE\npwdLockoutDuration: 3600\n\n", d.Base, history)
	fmt.Fprintf(&out, "dn: %s\nobjectClass: inetOrgPerson\nuid: mossmgr\ncn: mossmgr\nsn: mossmgr\nuserPassword: %s\n\n", d.Manager, ManagerPassword)
	group := ""
	for _, name := range append([]string{"svc-berth"}, accounts...) {
		fmt.Fprintf(&out, "dn: %s\nobjectClass: inetOrgPerson\nuid: %s\ncn: %s\nsn: %s\nuserPassword: %s\n\n", d.DN(name), name, name, name, AccountPassword)
		group += "member: " + d.DN(name) + "\n"
	}
	inner, outer := "cn=terminal,ou=groups,"+d.Base, "cn=operations,ou=groups,"+d.Base
	fmt.Fprintf(&out, "dn: %s\nobjectClass: groupOfNames\ncn: terminal\n%smember: %s\n\n", inner, group, outer)
	fmt.Fprintf(&out, "dn: %s\nobjectClass: groupOfNames\ncn: operations\nmember: %s\n\n", outer, inner)
	for i := range entries {
		fmt.Fprintf(&out, "dn: uid=person%06d,ou=people,%s\nobjectClass: inetOrgPerson\nuid: person%06d\ncn: Person %06d\nsn: Number %06d\ndisplayName: Person Number %06d\ndescription: made up for a benchmark, entry %d\n\n", i, d.Base, i, i, i, i, i)
	}
	return out.String()
}

// UnfriendlyOpenLDAP starts a directory as estates have them: several naming
// contexts, one of them closed to the steward, policies that lock in different
// ways, an organizational unit whose locks are hidden, accounts of plain
// classes with several names, and groups beside the accounts.
func UnfriendlyOpenLDAP(t testing.TB, address string, port int) *Directory {
	t.Helper()
	const base = "dc=larkmoor,dc=example"
	at := func(ago time.Duration) string { return time.Now().UTC().Add(-ago).Format("20060102150405Z") }
	var out strings.Builder
	fmt.Fprintf(&out, "dn: ou=hidden,%s\nobjectClass: organizationalUnit\nou: hidden\n\n", base)
	for name, rule := range map[string]string{"hour": "pwdLockout: TRUE\npwdLockoutDuration: 3600", "forgood": "pwdLockout: TRUE\npwdLockoutDuration: 0", "off": "pwdLockout: FALSE"} {
		fmt.Fprintf(&out, "dn: cn=%s,ou=policies,%s\nobjectClass: device\nobjectClass: pwdPolicy\ncn: %s\npwdAttribute: userPassword\n%s\n\n", name, base, name, rule)
	}
	person := func(ou, name, class, policy, locked, more string) {
		fmt.Fprintf(&out, "dn: %s,ou=%s,%s\nobjectClass: %s\nsn: made up\nuserPassword: %s\n%s", name, ou, base, class, AccountPassword, more)
		if policy != "" {
			fmt.Fprintf(&out, "pwdPolicySubentry: cn=%s,ou=policies,%s\n", policy, base)
		}
		if locked != "" {
			fmt.Fprintf(&out, "pwdAccountLockedTime: %s\n", locked)
		}
		out.WriteString("\n")
	}
	inet := func(ou, uid, policy, locked string) {
		person(ou, "uid="+uid, "inetOrgPerson", policy, locked, "uid: "+uid+"\ncn: "+uid+"\n")
	}
	inet("services", "lock-ran-out", "hour", at(2*time.Hour))
	inet("services", "lock-held", "hour", at(10*time.Minute))
	inet("services", "lock-forgood", "forgood", at(2000*time.Hour))
	inet("services", "lock-administrator", "hour", "000001010000Z")
	inet("services", "lock-off", "off", "000001010000Z")
	inet("services", "lock-none", "hour", "")
	inet("services", "lock-default", "", at(2*time.Hour))
	inet("hidden", "hidden-locked", "hour", at(10*time.Minute))
	inet("hidden", "hidden-free", "hour", "")
	person("services", "cn=Tide Board", "person", "", "", "cn: Another Name\ncn: Tide Board\n")
	person("services", `cn=Kern\, Odile`, "organizationalPerson", "", "", "cn: Kern, Odile\n")
	person("services", "uid=svc-two", "inetOrgPerson", "", "", "uid: alias-two\nuid: svc-two\ncn: two\n")
	person("services", "cn=posix", "inetOrgPerson\nobjectClass: posixAccount", "", "", "cn: posix\nuid: svc-posix\nuidNumber: 7100\ngidNumber: 7001\nhomeDirectory: /srv/posix\n")
	fmt.Fprintf(&out, "dn: cn=Passenger,ou=people,%s\nobjectClass: person\ncn: Passenger\nsn: no password\n\n", base)
	fmt.Fprintf(&out, "dn: cn=boards,ou=groups,%s\nobjectClass: groupOfUniqueNames\ncn: boards\nuniqueMember: cn=tide board , OU=Services,%s#'0101'B\nuniqueMember: CN=Kern\\2C Odile,ou=services,%s\n\n", base, base, base)
	fmt.Fprintf(&out, "dn: cn=all,ou=groups,%s\nobjectClass: groupOfNames\ncn: all\nmember: cn=boards,ou=groups,%s\n\n", base, base)
	fmt.Fprintf(&out, "dn: cn=crew,ou=groups,%s\nobjectClass: posixGroup\ncn: crew\ngidNumber: 7001\n\n", base)
	top := func(name string) string {
		return fmt.Sprintf("dn: dc=%[1]s,dc=example\nobjectClass: domain\ndc: %[1]s\n\n", name)
	}
	return openLDAP(t, address, port, 0, 0, nil, []database{
		{"dc=ferries,dc=example", "to * by users read", top("ferries") + "dn: uid=svc-second,dc=ferries,dc=example\nobjectClass: inetOrgPerson\nuid: svc-second\ncn: second\nsn: second\n\n"},
		{"dc=closed,dc=example", "to * by * none", top("closed")},
	}, false, out.String())
}

// Binds asks with the directory's own client whether a password is accepted.
func Binds(t testing.TB, d *Directory, dn, password string) bool {
	t.Helper()
	ca, pw := filepath.Join(d.folder, "bind-ca.pem"), filepath.Join(d.folder, "bind.pw")
	require.NoError(t, os.WriteFile(ca, []byte(d.CA), 0o600))
	require.NoError(t, os.WriteFile(pw, []byte(password), 0o600))
	cmd := exec.Command("ldapsearch", "-x", "-LLL", "-s", "base", "-b", "", "-H", fmt.Sprintf("ldaps://%s:%d", d.Address, d.Port), "-D", dn, "-y", pw, "1.1")
	cmd.Env = append(os.Environ(), "LDAPTLS_CACERT="+ca)
	out, err := cmd.CombinedOutput()
	if err != nil {
		require.Contains(t, string(out), "Invalid credentials (49)", "%s", dn)
	}
	return err == nil
}

// Attribute reads one as the manager, with the directory's own client.
func Attribute(t testing.TB, d *Directory, dn, name string) string {
	t.Helper()
	ca, pw := filepath.Join(d.folder, "read-ca.pem"), filepath.Join(d.folder, "read.pw")
	require.NoError(t, os.WriteFile(ca, []byte(d.CA), 0o600))
	require.NoError(t, os.WriteFile(pw, []byte(ManagerPassword), 0o600))
	cmd := exec.Command("ldapsearch", "-x", "-LLL", "-H", fmt.Sprintf("ldaps://%s:%d", d.Address, d.Port), "-D", d.Manager, "-y", pw, "-b", dn, "-s", "base", name)
	cmd.Env = append(os.Environ(), "LDAPTLS_CACERT="+ca)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	_, value, _ := strings.Cut(string(out), "\n"+name+": ")
	value, _, _ = strings.Cut(value, "\n")
	return value
}

// OpenLDAPWith starts a directory with further entries, as LDIF.
func OpenLDAPWith(t testing.TB, address string, port int, entries ...string) *Directory {
	t.Helper()
	return openLDAP(t, address, port, 0, 0, nil, nil, false, strings.Join(entries, ""))
}

// Policy is a password policy as LDIF.
func Policy(name, rules string) string {
	return fmt.Sprintf("dn: cn=%[1]s,ou=policies,dc=larkmoor,dc=example\nobjectClass: device\nobjectClass: pwdPolicy\ncn: %[1]s\npwdAttribute: userPassword\n%[2]s\n\n", name, rules)
}

// Person is an account with a policy of its own, as LDIF.
func Person(uid, policy, more string) string {
	if more != "" {
		more += "\n"
	}
	return fmt.Sprintf("dn: uid=%[1]s,ou=services,dc=larkmoor,dc=example\nobjectClass: inetOrgPerson\nuid: %[1]s\ncn: %[1]s\nsn: made up\nuserPassword: %[2]s\npwdPolicySubentry: cn=%[3]s,ou=policies,dc=larkmoor,dc=example\n%[4]s\n", uid, AccountPassword, policy, more)
}

// providing makes a directory one that replicas learn from.
const providing = `
dn: cn=module{1},cn=config
objectClass: olcModuleList
cn: module{1}
olcModulePath: /usr/lib/ldap
olcModuleLoad: syncprov.la

dn: olcOverlay={1}syncprov,olcDatabase={1}mdb,cn=config
objectClass: olcOverlayConfig
objectClass: olcSyncProvConfig
olcOverlay: {1}syncprov
`

// replicator is the database's own administrator, as replicas sign in.
const replicator = "cn=admin,dc=larkmoor,dc=example"

// Replicated starts a directory and a replica of it, which asks for what is new once in a
// while (RFC 4533, refreshOnly).
func Replicated(t testing.TB, first, second string, port int, lag string, accounts ...string) (provider, replica *Directory) {
	t.Helper()
	provider = openLDAP(t, first, port, 0, 0, accounts, nil, true)
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	folder := t.TempDir()
	replica = &Directory{Address: second, Port: port, Base: provider.Base, folder: folder, Manager: provider.Manager, CA: provider.CA}
	for _, sub := range []string{"/slapd.d", "/db", "/run"} {
		require.NoError(t, os.MkdirAll(folder+sub, 0o700))
	}
	require.NoError(t, provider.authority.issue(ctx, folder+"/tls", "ldap2.larkmoor.example", second))
	sync := fmt.Sprintf("olcSyncrepl: rid=001 provider=ldaps://%s:%d bindmethod=simple binddn=\"%s\" credentials=%s searchbase=\"%s\" type=refreshOnly interval=%s retry=\"1 +\" tls_cacert=%s/ca/ca.pem\nolcUpdateRef: ldaps://%s:%d\n",
		first, port, replicator, ManagerPassword, provider.Base, lag, provider.folder, first, port)
	config := strings.Replace(slapdConfig(folder), "olcLastBind: TRUE\n", "olcLastBind: TRUE\n"+sync, 1)
	_, err := run(ctx, config, "slapadd", "-n", "0", "-F", folder+"/slapd.d")
	require.NoError(t, err)
	all, err := run(ctx, "", "slapcat", "-n", "1", "-F", provider.folder+"/slapd.d")
	require.NoError(t, err)
	_, err = run(ctx, all, "slapadd", "-q", "-n", "1", "-F", folder+"/slapd.d")
	require.NoError(t, err)
	replica.start(t, "slapd", "-d", "0", "-F", folder+"/slapd.d", "-h", fmt.Sprintf("ldaps://%s:%d", second, port))
	replica.wait(ctx, t)
	return provider, replica
}

// GuardedOpenLDAP starts one with a second database, dc=guarded,dc=example: the groups writers
// and readers, without members of note, and a board whose description the writers may write.
func GuardedOpenLDAP(t testing.TB, address string, port int) *Directory {
	t.Helper()
	const base = "dc=guarded,dc=example"
	group := func(name string) string {
		return fmt.Sprintf("dn: cn=%[1]s,%[2]s\nobjectClass: groupOfNames\ncn: %[1]s\nmember: %[2]s\n\n", name, base)
	}
	access := "to dn.base=\"cn=board," + base + "\" attrs=description by group.exact=\"cn=writers," + base + "\" write by users read\nolcAccess: {1}to attrs=member by dn.exact=\"uid=mossmgr,ou=people,dc=larkmoor,dc=example\" write by users read\nolcAccess: {2}to * by users read"
	return openLDAP(t, address, port, 0, 0, nil, []database{{base, access, "dn: " + base + "\nobjectClass: domain\ndc: guarded\n\n" + group("writers") + group("readers") + "dn: cn=board," + base + "\nobjectClass: device\ncn: board\n\n"}}, false)
}
