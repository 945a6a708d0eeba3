package lab

import (
	"context"
	"encoding/base64"
	"encoding/binary"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
	"unicode/utf16"

	"github.com/jcmturner/gokrb5/v8/iana/etypeID"
	"github.com/jcmturner/gokrb5/v8/keytab"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/directory"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/secret"
)

// Accounts that every directory of the lab has.
const (
	ManagerPassword = "Lab-Manager-Passw0rd"
	AccountPassword = "Berth-Start-Passw0rd1"
)

// HTTPService is a service principal of the domain; Keytab holds its keys.
const HTTPService = "HTTP/terminal1.larkmoor.example"

// Realm of the domain.
const Realm = "LARKMOOR.EXAMPLE"

// Keytab makes the key tab of HTTPService, for any key version.
func Keytab(t testing.TB) []byte {
	t.Helper()
	keys := keytab.New()
	for version := range uint8(5) {
		require.NoError(t, keys.AddEntry(HTTPService, Realm, ManagerPassword, time.Now(), version, etypeID.RC4_HMAC))
	}
	raw, err := keys.Marshal()
	require.NoError(t, err)
	return raw
}

// Directory is a running directory.
type Directory struct {
	Address string
	Port    int
	Base    string
	CA      string
	Manager string // DN of the account with the right to reset
	folder  string
	cmd     *exec.Cmd

	authority *Authority
}

// Target reaches it with its manager.
func (d *Directory) Target(name string) connect.Target {
	return connect.Target{
		SystemID: name, Name: name, Kind: estate.KindDirectory, Address: d.Address, Port: d.Port, TrustedCA: d.CA,
		Steward: connect.Steward{Account: d.Manager, Password: secret.New(ManagerPassword)},
	}
}

// DN of a service account.
func (d *Directory) DN(name string) string {
	if strings.HasPrefix(d.Base, "dc=") {
		return "uid=" + name + ",ou=services," + d.Base
	}
	return "CN=" + name + ",OU=Service Accounts," + d.Base
}

// UsesLog is what a Samba directory wrote of authentications so far.
func (d *Directory) UsesLog(t testing.TB) string {
	t.Helper()
	raw, err := os.ReadFile(filepath.Join(d.folder, "server.log"))
	require.NoError(t, err)
	return string(raw)
}

func unicodePwd(password string) string {
	var out []byte
	for _, unit := range utf16.Encode([]rune(`"` + password + `"`)) {
		out = binary.LittleEndian.AppendUint16(out, unit)
	}
	return base64.StdEncoding.EncodeToString(out)
}

// Samba provisions and starts a domain controller on a loopback address. It
// ends with the test.
func Samba(t testing.TB, address string, accounts ...string) *Directory {
	t.Helper()
	return samba(t, address, "ldap, cldap, kdc", accounts...)
}

const administratorPassword = "Adm1n-Passw0rd!"

func samba(t testing.TB, address, services string, accounts ...string) *Directory {
	t.Helper()
	Require(t)
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Minute)
	defer cancel()
	folder := t.TempDir()
	require.NoError(t, os.Chmod(folder, 0o755))
	d := &Directory{Address: address, Port: 636, Base: "DC=larkmoor,DC=example", folder: folder, Manager: "CN=mossmgr,CN=Users,DC=larkmoor,DC=example"}
	dc := filepath.Join(folder, "dc")
	empty := filepath.Join(folder, "empty.conf")
	require.NoError(t, os.WriteFile(empty, nil, 0o600))
	_, err := run(ctx, "", "samba-tool", "domain", "provision", "-q", "-s", empty, "--targetdir="+dc, "--realm=LARKMOOR.EXAMPLE", "--domain=LARKMOOR", "--server-role=dc", "--dns-backend=NONE", "--adminpass="+administratorPassword, "--host-name=dc1", "--host-ip="+address)
	require.NoError(t, err)
	require.NoError(t, os.RemoveAll(dc+"/etc"))
	for _, sub := range []string{"/run/ncalrpc", "/cache", "/state"} {
		require.NoError(t, os.MkdirAll(dc+sub, 0o755))
	}
	authority, err := newAuthority(ctx, filepath.Join(folder, "ca"))
	require.NoError(t, err)
	d.CA, d.authority = authority.PEM, authority
	require.NoError(t, authority.issue(ctx, dc+"/private/tls", "dc1.larkmoor.example", address))
	require.NoError(t, os.WriteFile(dc+"/smb.conf", []byte(sambaConf(dc, "DC1", address, services, 1)), 0o600))
	require.NoError(t, os.WriteFile(dc+"/offline.conf", []byte(sambaConf(dc, "DC1", address, services, 0)), 0o600))

	ldif := "dn: OU=Service Accounts," + d.Base + "\nobjectClass: organizationalUnit\n\n" +
		"dn: OU=Hosts," + d.Base + "\nobjectClass: organizationalUnit\n\n" +
		"dn: CN=TIDE1,OU=Hosts," + d.Base + "\nobjectClass: computer\nsAMAccountName: TIDE1$\ndNSHostName: tide1.larkmoor.example\noperatingSystem: Linux\n\n" +
		"dn: " + d.Manager + "\nobjectClass: user\nsAMAccountName: mossmgr\nuserAccountControl: 66048\nunicodePwd:: " + unicodePwd(ManagerPassword) + "\n\n"
	ldif += "dn: CN=svc-http," + "CN=Users," + d.Base + "\nobjectClass: user\nsAMAccountName: svc-http\nservicePrincipalName: " + HTTPService + "\nuserAccountControl: 66048\nunicodePwd:: " + unicodePwd(ManagerPassword) + "\n\n"
	var members string
	for _, name := range append([]string{"svc-berth"}, accounts...) {
		ldif += "dn: " + d.DN(name) + "\nobjectClass: user\nsAMAccountName: " + name + "\nuserPrincipalName: " + name + "@larkmoor.example\nuserAccountControl: 66048\nunicodePwd:: " + unicodePwd(AccountPassword) + "\n\n"
		members += "member: " + d.DN(name) + "\n"
	}
	inner, outer := "CN=Terminal Services Staff,OU=Service Accounts,"+d.Base, "CN=Operations Staff,OU=Service Accounts,"+d.Base
	ldif += "dn: " + inner + "\nobjectClass: group\nsAMAccountName: Terminal Services Staff\n" + members + "\n" +
		"dn: " + outer + "\nobjectClass: group\nsAMAccountName: Operations Staff\nmember: " + inner + "\n\n"
	database := []string{"--configfile=" + dc + "/offline.conf", "-H", dc + "/private/sam.ldb"}
	_, err = run(ctx, "dn: "+d.Base+"\nchangetype: modify\nreplace: minPwdAge\nminPwdAge: -864000000000\n-\nreplace: minPwdLength\nminPwdLength: 12\n-\nreplace: lockoutThreshold\nlockoutThreshold: 5\n-\nreplace: lockoutDuration\nlockoutDuration: -18000000000\n-\nreplace: lockOutObservationWindow\nlockOutObservationWindow: -18000000000\n", "ldbmodify", database...)
	require.NoError(t, err)
	_, err = run(ctx, ldif, "ldbadd", database...)
	require.NoError(t, err)
	// A group that contains itself through the other one.
	_, err = run(ctx, "dn: "+inner+"\nchangetype: modify\nadd: member\nmember: "+outer+"\n", "ldbmodify", database...)
	require.NoError(t, err)
	out, err := run(ctx, "", "ldbsearch", append(database, "-b", d.Manager, "objectSid")...)
	require.NoError(t, err)
	sid := ""
	for line := range strings.Lines(out) {
		if v, found := strings.CutPrefix(line, "objectSid: "); found {
			sid = strings.TrimSpace(v)
		}
	}
	// The manager may reset passwords and nothing else: the control right
	// User-Force-Change-Password, and write of pwdLastSet and lockoutTime.
	const user = "bf967aba-0de6-11d0-a285-00aa003049e2"
	sddl := "(OA;CIIO;CR;00299570-246d-11d0-a768-00aa006e0529;" + user + ";" + sid + ")(OA;CIIO;RPWP;bf967a0a-0de6-11d0-a285-00aa003049e2;" + user + ";" + sid + ")(OA;CIIO;RPWP;28630ebf-41d5-11d1-a9c1-0000f80367c1;" + user + ";" + sid + ")"
	_, err = run(ctx, "", "samba-tool", "dsacl", "set", "-s", dc+"/offline.conf", "-H", dc+"/private/sam.ldb", "--objectdn=OU=Service Accounts,"+d.Base, "--action=allow", "--sddl="+sddl)
	require.NoError(t, err)
	d.start(t, "samba", "-s", dc+"/smb.conf", "-i", "-M", "single", "--debug-stdout")
	d.wait(ctx, t)
	return d
}

func sambaConf(dc, name, address, services string, level int) string {
	return fmt.Sprintf(`[global]
netbios name = %[4]s
realm = LARKMOOR.EXAMPLE
workgroup = LARKMOOR
server role = active directory domain controller
interfaces = %[2]s/24
bind interfaces only = yes
server services = %[5]s
private dir = %[1]s/private
lock directory = %[1]s
state directory = %[1]s/state
cache directory = %[1]s/cache
binddns dir = %[1]s/bind-dns
pid directory = %[1]s/run
ncalrpc dir = %[1]s/run/ncalrpc
winbindd socket directory = %[1]s/run/winbindd
ntp signd socket directory = %[1]s/run/ntp_signd
log file = %[1]s/log.samba
log level = %[3]d auth_json_audit:3
tls enabled = yes
tls certfile = %[1]s/private/tls/cert.pem
tls keyfile = %[1]s/private/tls/key.pem
tls cafile = %[1]s/private/tls/ca.pem
dns update command = /bin/true
spn update command = /bin/true
gpo update command = /bin/true
load printers = no
disable netbios = yes
ldap server require strong auth = allow_sasl_over_tls
`, dc, address, level, name, services)
}

// start starts the server as a child that ends with the test.
func (d *Directory) start(t testing.TB, name string, args ...string) {
	t.Helper()
	log, err := os.Create(filepath.Join(d.folder, "server.log"))
	require.NoError(t, err)
	cmd := exec.Command(name, args...)
	cmd.Env = append(os.Environ(), "TDB_NO_FSYNC=1", "PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin")
	cmd.Stdout, cmd.Stderr = log, log
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGKILL}
	require.NoError(t, cmd.Start())
	d.cmd = cmd
	t.Cleanup(func() {
		_ = cmd.Process.Signal(syscall.SIGTERM)
		ended := make(chan struct{})
		go func() { _ = cmd.Wait(); close(ended) }()
		select {
		case <-ended:
		case <-time.After(10 * time.Second):
			_ = cmd.Process.Kill()
			<-ended
		}
		_ = log.Close()
	})
}

// wait waits until the directory answers a check.
func (d *Directory) wait(ctx context.Context, t testing.TB) {
	t.Helper()
	var last connect.CheckReport
	target := d.Target("lab")
	target.Options = map[string]string{directory.OptionBase: d.Base} // a part of it may be closed
	err := poll(ctx, 50*time.Millisecond, func() bool {
		last = directory.Connector{}.Check(ctx, target)
		return last.OK()
	})
	log, _ := os.ReadFile(filepath.Join(d.folder, "server.log"))
	require.NoError(t, err, "the directory does not answer: %+v\n%s", last.Stages, log)
}

// Modify applies LDIF as the directory's manager.
func Modify(t testing.TB, d *Directory, ldif string) {
	t.Helper()
	ca, pw := filepath.Join(d.folder, "modify-ca.pem"), filepath.Join(d.folder, "modify.pw")
	require.NoError(t, os.WriteFile(ca, []byte(d.CA), 0o600))
	require.NoError(t, os.WriteFile(pw, []byte(ManagerPassword), 0o600))
	cmd := exec.Command("ldapmodify", "-x", "-H", fmt.Sprintf("ldaps://%s:%d", d.Address, d.Port), "-D", d.Manager, "-y", pw)
	cmd.Env = append(os.Environ(), "LDAPTLS_CACERT="+ca)
	cmd.Stdin = strings.NewReader(ldif)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
}

// local are the arguments with which the tools of a Samba directory work on its
// files.
func (d *Directory) local() []string {
	dc := filepath.Join(d.folder, "dc")
	return []string{"-s", dc + "/offline.conf", "-H", dc + "/private/sam.ldb"}
}

// FineGrained gives accounts of a Samba directory a fine-grained policy.
func (d *Directory) FineGrained(t testing.TB, name string, shortest int, accounts ...string) {
	t.Helper()
	pso := func(args ...string) {
		_, err := run(t.Context(), "", "samba-tool", append(append([]string{"domain", "passwordsettings", "pso"}, args...), d.local()...)...)
		require.NoError(t, err)
	}
	pso("create", name, "1", fmt.Sprintf("--min-pwd-length=%d", shortest), "--complexity=on", "--min-pwd-age=0", "--max-pwd-age=0")
	for _, account := range accounts {
		pso("apply", name, account)
	}
}

// Hide takes from the manager of a Samba directory the right to see what lies
// below a container; what it returns gives it back.
func (d *Directory) Hide(t testing.TB, container string) (show func()) {
	t.Helper()
	database := []string{"--configfile=" + filepath.Join(d.folder, "dc/offline.conf"), "-H", filepath.Join(d.folder, "dc/private/sam.ldb")}
	of := func(dn, attribute string) string {
		out, err := run(t.Context(), "", "ldbsearch", append(database, "-b", dn, "-s", "base", attribute)...)
		require.NoError(t, err)
		_, value, found := strings.Cut(strings.ReplaceAll(out, "\n ", ""), "\n"+attribute+":")
		require.True(t, found, out)
		value, _, _ = strings.Cut(value, "\n")
		return value
	}
	sid, before := strings.TrimSpace(of(d.Manager, "objectSid")), of(container, "nTSecurityDescriptor")
	_, err := run(t.Context(), "", "samba-tool", append([]string{"dsacl", "set", "--objectdn=" + container, "--sddl=(D;CI;LCRPLO;;;" + sid + ")"}, d.local()...)...)
	require.NoError(t, err)
	return func() {
		t.Helper()
		_, err := run(t.Context(), "dn: "+container+"\nchangetype: modify\nreplace: nTSecurityDescriptor\nnTSecurityDescriptor:"+before+"\n", "ldbmodify", database...)
		require.NoError(t, err)
	}
}

// Delete deletes an entry of a Samba directory.
func (d *Directory) Delete(t testing.TB, dn string) {
	t.Helper()
	_, err := run(t.Context(), "", "ldbdel", "--configfile="+filepath.Join(d.folder, "dc/offline.conf"), "-H", filepath.Join(d.folder, "dc/private/sam.ldb"), dn)
	require.NoError(t, err)
}

// AllowReadingPolicies lets every account that signed in read fine-grained
// policies.
func (d *Directory) AllowReadingPolicies(t testing.TB) {
	t.Helper()
	_, err := run(t.Context(), "", "samba-tool", append([]string{"dsacl", "set", "--objectdn=CN=Password Settings Container,CN=System," + d.Base, "--action=allow", "--sddl=(A;CI;GR;;;AU)"}, d.local()...)...)
	require.NoError(t, err)
	// Entries that are there take the inherited right when they are written.
	_, err = run(t.Context(), "", "samba-tool", append([]string{"dsacl", "set", "--objectdn=CN=forty,CN=Password Settings Container,CN=System," + d.Base, "--action=allow", "--sddl=(A;;GR;;;AU)"}, d.local()...)...)
	require.NoError(t, err)
}

// Alter changes entries of a Samba directory in its own files, as nobody could over
// the wire.
func (d *Directory) Alter(t testing.TB, ldif string) { d.offline(t, "ldbmodify", ldif) }

// Create adds entries in the same way, also such as only the domain itself makes.
func (d *Directory) Create(t testing.TB, ldif string) { d.offline(t, "ldbadd", ldif) }

func (d *Directory) offline(t testing.TB, tool, ldif string) {
	t.Helper()
	dc := filepath.Join(d.folder, "dc")
	_, err := run(t.Context(), ldif, tool, "--configfile="+dc+"/offline.conf", "-H", dc+"/private/sam.ldb")
	require.NoError(t, err)
}

// ServiceDN is the account that has HTTPService as its service principal name.
func (d *Directory) ServiceDN() string { return "CN=svc-http,CN=Users," + d.Base }

// ExportKeytab has the domain's own tool write the key tab of a principal.
func (d *Directory) ExportKeytab(t testing.TB, principal string) []byte {
	t.Helper()
	file := filepath.Join(t.TempDir(), "exported.keytab")
	_, err := run(context.Background(), "", "samba-tool", "domain", "exportkeytab", file, "--principal="+principal, "-s", d.folder+"/dc/offline.conf")
	require.NoError(t, err)
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	return raw
}

// Group is the one that svc-berth and the further accounts are members of.
func (d *Directory) Group() string { return "CN=Terminal Services Staff,OU=Service Accounts," + d.Base }

// PermitTurns lets the manager do what two accounts that take turns need beside a new
// password: enable and disable, the limits of an account, and the members of groups.
func (d *Directory) PermitTurns(t testing.TB) {
	t.Helper()
	sid, sddl := d.ManagerSID(t), ""
	for _, right := range [][2]string{ // schema ids of attribute and class ([MS-ADSC])
		{"bf967a68", "bf967aba"}, {"bf967915", "bf967aba"}, {"bf9679d7", "bf967aba"}, {"bf9679ab", "bf967aba"}, // userAccountControl, accountExpires, userWorkstations, logonHours of user
		{"bf9679c0", "bf967a9c"}, // member of group
	} {
		sddl += "(OA;CIIO;RPWP;" + right[0] + "-0de6-11d0-a285-00aa003049e2;" + right[1] + "-0de6-11d0-a285-00aa003049e2;" + sid + ")"
	}
	d.Permit(t, "OU=Service Accounts,"+d.Base, sddl)
}

// Permit adds entries to the permissions of an object of the windows schema.
func (d *Directory) Permit(t testing.TB, dn, sddl string) {
	t.Helper()
	_, err := run(t.Context(), "", "samba-tool", append([]string{"dsacl", "set", "--objectdn=" + dn, "--action=allow", "--sddl=" + sddl}, d.local()...)...)
	require.NoError(t, err)
}

// ManagerSID is the SID of the manager.
func (d *Directory) ManagerSID(t testing.TB) string { return d.SID(t, d.Manager) }

// SID is that of an object.
func (d *Directory) SID(t testing.TB, dn string) string {
	t.Helper()
	out, err := run(t.Context(), "", "ldbsearch", "--configfile="+d.folder+"/dc/offline.conf", "-H", d.folder+"/dc/private/sam.ldb", "-s", "base", "-b", dn, "objectSid")
	require.NoError(t, err)
	for line := range strings.Lines(out) {
		if v, found := strings.CutPrefix(line, "objectSid: "); found {
			return strings.TrimSpace(v)
		}
	}
	t.Fatal(dn + " has no SID")
	return ""
}

// Delegate lets the manager reset the password of one more account.
func (d *Directory) Delegate(t testing.TB, dn string) {
	t.Helper()
	sid := d.ManagerSID(t)
	sddl := "(OA;;CR;00299570-246d-11d0-a768-00aa006e0529;;" + sid + ")(OA;;RPWP;bf967a0a-0de6-11d0-a285-00aa003049e2;;" + sid + ")"
	_, err := run(context.Background(), "", "samba-tool", "dsacl", "set", "-s", d.folder+"/dc/offline.conf", "-H", d.folder+"/dc/private/sam.ldb", "--objectdn="+dn, "--action=allow", "--sddl="+sddl)
	require.NoError(t, err)
}

// Local reads an attribute in the server's own database.
func (d *Directory) Local(t testing.TB, dn, attribute string) string {
	t.Helper()
	out, err := run(t.Context(), "", "ldbsearch", "--configfile="+d.folder+"/dc/offline.conf", "-H", d.folder+"/dc/private/sam.ldb", "-b", dn, "-s", "base", attribute)
	require.NoError(t, err)
	for line := range strings.Lines(out) {
		if v, found := strings.CutPrefix(line, attribute+": "); found {
			return strings.TrimSpace(v)
		}
	}
	return "0"
}
