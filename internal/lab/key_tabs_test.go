package lab_test

import (
	"encoding/base64"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/jcmturner/gokrb5/v8/client"
	"github.com/jcmturner/gokrb5/v8/config"
	"github.com/jcmturner/gokrb5/v8/keytab"
	"github.com/jcmturner/gokrb5/v8/service"
	"github.com/jcmturner/gokrb5/v8/spnego"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/directory"
	"mossledger.example/moss/internal/connect/unixhost"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/layout"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/lab"
)

// A program that accepts tickets goes on with both: those that were given out before the
// change and those after it, with a key tab that another program made, on a real host,
// of a real domain.
func TestAcceptorsGoOn(t *testing.T) {
	samba := lab.Samba(t, "127.0.0.83", "svc-caller")
	samba.Alter(t, "dn: "+samba.ServiceDN()+"\nchangetype: modify\nreplace: msDS-SupportedEncryptionTypes\nmsDS-SupportedEncryptionTypes: 24\n")
	target := samba.Target("samba")
	accounts, _, _ := readDirectory(t, target)
	account := accounts["svc-http"]
	ref := connect.AccountRef{StableID: account.StableID, Name: account.Name, DN: account.DN}
	// The manager may reset this one too.
	samba.Delegate(t, samba.ServiceDN())
	old, next := secret.New(lab.ManagerPassword), secret.New("Another-Passw0rd-2")
	set := func(to connect.Accepted) {
		require.NoError(t, directory.Connector{}.Accept(t.Context(), target, connect.Point{Account: ref}, connect.Values{Old: old, New: next}, to))
	}
	version := func(value secret.Value) int {
		v, err := directory.Connector{}.Verify(t.Context(), target, ref, value)
		require.NoError(t, err)
		require.True(t, v.Accepted, v.Words)
		return v.KeyVersion
	}
	set(connect.AcceptOld) // with keys of all types

	h := lab.NewHost(t, "acceptor", 41)
	const path, principal = "/etc/http.keytab", lab.HTTPService + "@" + lab.Realm
	raw := samba.ExportKeytab(t, principal)
	require.NoError(t, os.WriteFile(h.Root+path, raw, 0o600))
	h.Boot(t)
	host := unixhost.Connector{}
	var salts []string
	for _, name := range []string{"svc-http", strings.ReplaceAll(lab.HTTPService, "/", "")} {
		salts = append(salts, lab.Realm+name)
	}
	places := []held.Locator{{Layout: layout.KeyTab, Key: principal, Part: held.PartValue, Salts: strings.Join(salts, "\n")}}
	for _, line := range host.Rehearse(t.Context(), h.Target(), []connect.Intention{{Replace: path, Places: places, Current: old}}) {
		assert.NotEqual(t, connect.CheckFailed, line.Result, "%+v", line)
	}
	wrong := host.Rehearse(t.Context(), h.Target(), []connect.Intention{{Replace: path, Places: places, Current: next}})
	assert.True(t, strings.Contains(fmt.Sprint(wrong), "neither the old nor the new value"), "%+v", wrong)

	before := ticket(t, samba)
	require.NoError(t, accepts(t, h, path, before))
	set(connect.AcceptNew)
	after := ticket(t, samba)
	require.NoError(t, accepts(t, h, path, before))
	require.Error(t, accepts(t, h, path, after), "this is how it breaks: at once, for whoever has no ticket yet")

	places[0].Version = version(next)
	require.NoError(t, host.ReplaceCopies(t.Context(), h.Target(), path, places, old, next))
	require.NoError(t, accepts(t, h, path, before))
	require.NoError(t, accepts(t, h, path, after))
	state, err := host.ReadCopies(t.Context(), h.Target(), path, places)
	require.NoError(t, err)
	assert.True(t, held.Same(layout.KeyTab, state.Found[0], next))
	assert.False(t, held.Same(layout.KeyTab, state.Found[0], old))
	require.NoError(t, host.ReplaceCopies(t.Context(), h.Target(), path, places, old, next), "again is harmless")

	// Undone: the files first, then the authority, which gives the old one a new number.
	// A file that the rotation had not come to needs it as well.
	const late = "/etc/late.keytab"
	require.NoError(t, os.WriteFile(h.Root+late, raw, 0o600))
	places[0].Version = version(next) + 1
	for _, file := range []string{path, late} {
		require.NoError(t, host.ReplaceCopies(t.Context(), h.Target(), file, places, next, old))
	}
	set(connect.AcceptOld)
	require.NoError(t, accepts(t, h, late, ticket(t, samba)))
	undone := ticket(t, samba)
	for name, one := range map[string]string{"before": before, "after": after, "undone": undone} {
		assert.NoError(t, accepts(t, h, path, one), name)
	}

	// The tools of the protocol's own makers read it.
	klist := exec.Command("klist", "-k", "-e", h.Root+path)
	out, err := klist.CombinedOutput()
	require.NoError(t, err, "%s", out)
	kvno := fmt.Sprintf("%4d %s (aes256-cts-hmac-sha1-96)", version(old), principal)
	assert.Contains(t, string(out), kvno)
	conf := filepath.Join(t.TempDir(), "krb5.conf")
	require.NoError(t, os.WriteFile(conf, []byte(kerberos(samba)), 0o600))
	ask := exec.Command("/bin/sh", "-ec", "printf '%s\n' \"$1\" | kinit svc-caller@"+lab.Realm+" >/dev/null && kvno -k "+h.Root+path+" "+principal, "sh", lab.AccountPassword)
	ask.Env = append(os.Environ(), "KRB5_CONFIG="+conf, "KRB5CCNAME=FILE:"+filepath.Join(t.TempDir(), "cc"))
	out, err = ask.CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.Contains(t, string(out), "keytab entry valid")
	assert.Equal(t, estate.Yes, account.Enabled)
}

func kerberos(d *lab.Directory) string {
	return "[libdefaults]\n default_realm = " + lab.Realm + "\n dns_lookup_kdc = false\n dns_lookup_realm = false\n rdns = false\n udp_preference_limit = 1\n[realms]\n " + lab.Realm + " = {\n  kdc = " + d.Address + ":88\n }\n"
}

// ticket gets a new one for the service, as a caller would send it.
func ticket(t *testing.T, d *lab.Directory) string {
	settings, err := config.NewFromString(kerberos(d))
	require.NoError(t, err)
	c := client.NewWithPassword("svc-caller", lab.Realm, lab.AccountPassword, settings, client.DisablePAFXFAST(true))
	defer c.Destroy()
	require.NoError(t, c.Login())
	request := httptest.NewRequest(http.MethodGet, "http://quay1/", nil)
	require.NoError(t, spnego.SetSPNEGOHeader(c, request, lab.HTTPService))
	return request.Header.Get("Authorization")
}

// accepts hands a ticket to a real acceptor that has the host's key tab.
func accepts(t *testing.T, h *lab.Host, path, authorization string) error {
	raw, err := os.ReadFile(h.Root + path)
	require.NoError(t, err)
	tab := keytab.New()
	require.NoError(t, tab.Unmarshal(raw))
	token, err := base64.StdEncoding.DecodeString(strings.TrimPrefix(authorization, "Negotiate "))
	require.NoError(t, err)
	var outer spnego.SPNEGOToken
	require.NoError(t, outer.Unmarshal(token))
	var inner spnego.KRB5Token
	require.NoError(t, inner.Unmarshal(outer.NegTokenInit.MechTokenBytes))
	_, _, err = service.VerifyAPREQ(&inner.APReq, service.NewSettings(tab, service.KeytabPrincipal(lab.HTTPService), service.DecodePAC(false)))
	if err != nil && strings.Contains(err.Error(), "replay") {
		return nil // it could be read: it was shown before
	}
	return err
}
