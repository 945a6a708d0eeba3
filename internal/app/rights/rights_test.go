package rights

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/connect"
	_ "mossledger.example/moss/internal/connect/directory"
	_ "mossledger.example/moss/internal/connect/unixhost"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/privilege"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/core/ties"
	"mossledger.example/moss/internal/records"
)

// kept is a store of one host.
type kept struct {
	principals  []privilege.Principal
	memberships []privilege.Membership
	lists       []privilege.List
	read        records.RightsRead
	dependents  []records.Dependent
	accounts    []records.Account
	kind        estate.Kind
}

func (k *kept) Account(_ context.Context, id records.AccountID) (records.Account, error) {
	for _, a := range k.accounts {
		if a.ID == id {
			return a, nil
		}
	}
	return records.Account{}, app.ErrNotFound
}

func (k *kept) Accounts(context.Context, records.Query) (records.Page[records.Account], error) {
	return records.Page[records.Account]{Items: k.accounts}, nil
}

func (k *kept) Dependents(context.Context, records.AccountID, records.Query) (records.Page[records.Dependent], error) {
	return records.Page[records.Dependent]{Items: k.dependents}, nil
}

func (k *kept) Steward(context.Context, string) (records.Steward, error) {
	return records.Steward{Name: "hosts", Account: "mossmgr"}, nil
}

func (k *kept) AccountsByKey(_ context.Context, _ records.SystemID, keys []string) (map[string]records.AccountID, error) {
	out := map[string]records.AccountID{}
	for _, a := range k.accounts {
		for _, key := range keys {
			if key == a.StableID {
				out[key] = a.ID
			}
		}
	}
	return out, nil
}

func (k *kept) RightsOf(context.Context, records.SystemID) ([]privilege.Principal, []privilege.Membership, []privilege.List, error) {
	return k.principals, k.memberships, k.lists, nil
}

func (k *kept) RightsRead(context.Context, records.SystemID) (records.RightsRead, error) {
	return k.read, nil
}

func (k *kept) SystemByID(_ context.Context, _ records.SystemID) (records.System, error) {
	return records.System{ID: 3, Name: "quay1", Kind: string(k.kind), Steward: "hosts"}, nil
}

func (k *kept) SystemsNaming(context.Context, string) ([]records.SystemID, error) { return nil, nil }

func (k *kept) TieSource(context.Context) (ties.Known, error) { return nil, nil }

func (k *kept) System(_ context.Context, name string) (records.System, error) {
	if name != "quay1" {
		return records.System{}, app.ErrNotFound
	}
	return records.System{ID: 3, Name: "quay1", Kind: string(k.kind), Steward: "hosts"}, nil
}

// Target implements Targets.
func (k *kept) Target(context.Context, records.System) (connect.Connector, connect.Target, error) {
	return nil, connect.Target{}, errors.New("the address waits for a second person")
}

func host() *kept {
	account := func(id records.AccountID, name string) records.Account {
		a := records.Account{ID: id, System: "quay1"}
		a.StableID, a.Name = "m:"+name, name
		return a
	}
	run := func(to, what string, deny bool) privilege.Entry {
		return privilege.Entry{To: to, Verb: "run", What: what, As: "root", Deny: deny, Text: to + " " + what}
	}
	many := privilege.List{Key: "rules:x", Decides: privilege.DecidesFirst, Entries: []privilege.Entry{{To: "crew", Verb: "reset password", Text: "(OA)"}}}
	for i := range 50 {
		many.Objects = append(many.Objects, privilege.Object{Kind: "account", Name: fmt.Sprint("svc-", i)})
	}
	return &kept{
		kind:        estate.KindUnixHost,
		read:        records.RightsRead{Completed: time.Date(2026, 11, 29, 9, 0, 0, 0, time.UTC)},
		accounts:    []records.Account{account(1, "berth"), account(2, "tide"), account(3, "new")},
		principals:  []privilege.Principal{{ID: "m:berth", Kind: privilege.KindAccount, Name: "berth"}, {ID: "m:tide", Kind: privilege.KindAccount, Name: "tide"}, {ID: "crew", Kind: privilege.KindGroup, Name: "crew"}, {ID: "everyone", Kind: privilege.KindEveryone, Name: "everyone"}},
		memberships: []privilege.Membership{{Member: "m:berth", Group: "crew", How: "primary group"}},
		lists: []privilege.List{
			many,
			{Key: "sudo", Decides: privilege.DecidesLast, Objects: []privilege.Object{{Kind: privilege.ObjectSystem, Name: "quay1"}}, Entries: []privilege.Entry{run("crew", "/usr/bin/id -u", false), run("crew", "/usr/bin/true", false), run("m:berth", "/usr/bin/id", true), run("everyone", "/usr/bin/uptime", false)}},
		},
	}
}

func TestOfAnAccount(t *testing.T) {
	r := New(host(), host())
	v, err := r.Of(t.Context(), 1)
	require.NoError(t, err)
	var lines []string
	for _, h := range v.Rights {
		lines = append(lines, fmt.Sprint(h.May, " ", h.What, " | ", h.On, " | ", h.Through, " | ", h.Void))
	}
	assert.Equal(t, []string{
		"reset password  | account svc-0 and 49 more | crew (primary group) | ",
		"run /usr/bin/id -u | the system | crew (primary group) | another entry forbids it",
		"run /usr/bin/true | the system | crew (primary group) | ",
		"not run /usr/bin/id | the system |  | ",
		"run /usr/bin/uptime | the system | everyone | ",
	}, lines)
	assert.Equal(t, 50, v.Rights[0].OfObjects)
	assert.Len(t, v.Rights[0].Objects, mostObjects, "an answer does not grow with the directory")
	require.Len(t, v.Groups, 2)
	assert.Equal(t, "crew", v.Groups[0].Name)
	assert.False(t, v.Read.Completed.IsZero())

	v, err = r.Of(t.Context(), 3) // who was not read by name has what everyone has
	require.NoError(t, err)
	require.Len(t, v.Rights, 1)
	assert.Equal(t, "/usr/bin/uptime", v.Rights[0].What)
	_, err = r.Of(t.Context(), 9)
	assert.ErrorIs(t, err, app.ErrNotFound)

	k := host() // of an administrator of everything
	for i := range mostRights + 7 {
		k.lists = append(k.lists, privilege.List{Key: fmt.Sprint("table:", i), Decides: privilege.DecidesAny, Objects: []privilege.Object{{Kind: "table", Name: fmt.Sprint(i)}}, Entries: []privilege.Entry{{To: "m:tide", Verb: "select"}}})
	}
	v, err = New(k, k).Of(t.Context(), 2)
	require.NoError(t, err)
	assert.Len(t, v.Rights, mostRights)
	assert.Equal(t, 8, v.More)
}

func TestWho(t *testing.T) {
	k := host()
	r := New(k, k)
	ask := func(q Question) (out []string) {
		q.System = "quay1"
		v, err := r.Who(t.Context(), q)
		require.NoError(t, err)
		for _, h := range v.Holders {
			out = append(out, fmt.Sprintf("%s %d", h.Name, h.AccountID))
		}
		return out
	}
	assert.Equal(t, []string{"berth 1"}, ask(Question{Verb: "run", What: "/usr/bin/true"}))
	assert.Equal(t, []string{"berth 1", "crew 0"}, ask(Question{Verb: "run", What: "/usr/bin/true", Principals: true}))
	assert.Empty(t, ask(Question{Verb: "run", What: "/usr/bin/id -u", As: "tide"}))
	assert.Equal(t, []string{"berth 1", "tide 2", "everyone 0"}, ask(Question{Verb: "run", What: "/usr/bin/uptime"}), "and whoever else may sign in")
	assert.Equal(t, []string{"berth 1"}, ask(Question{Verb: "reset password", Object: "account:SVC-7"}))
	assert.Equal(t, []string{"berth 1"}, ask(Question{Verb: "reset password", Object: "svc-7"}))
	assert.Empty(t, ask(Question{Verb: "reset password", Object: "group:svc-7"}))
	_, err := r.Who(t.Context(), Question{System: "quay1", Verb: "eat"})
	assert.ErrorIs(t, err, app.ErrInput)
	assert.ErrorContains(t, err, "there is: be signed in to by key, everything, has capability, read, reset password, run, sign in, write")
	_, err = r.Who(t.Context(), Question{System: "quay2", Verb: "run"})
	assert.ErrorIs(t, err, app.ErrNotFound)
	k.lists, k.read = nil, records.RightsRead{Never: true}
	v, err := r.Who(t.Context(), Question{System: "quay1", Verb: "run"})
	require.NoError(t, err)
	assert.True(t, v.Read.Never, "that nothing is known is no answer")
}

// reached gives a target with a steward's key.
type reached struct{ key secret.Value }

func (r reached) Target(_ context.Context, v records.System) (connect.Connector, connect.Target, error) {
	c, _ := connect.For(estate.Kind(v.Kind))
	return c, connect.Target{Name: v.Name, Kind: estate.Kind(v.Kind), Steward: connect.Steward{Account: "mossmgr", PrivateKey: r.key, Password: secret.New("Never-Shown-1")}}, nil
}

func TestPrepare(t *testing.T) {
	public, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	block, err := ssh.MarshalPrivateKey(private, "")
	require.NoError(t, err)
	line, err := ssh.NewPublicKey(public)
	require.NoError(t, err)
	k := host()
	file := func(place, p, format string, ties int) records.Dependent {
		d := records.Dependent{}
		d.Kind, d.Place, d.Path, d.Copy = estate.DependentFile, place, p, &estate.Copy{Format: format}
		d.Ties = make([]records.Tie, ties)
		return d
	}
	unit := records.Dependent{}
	unit.Kind, unit.Place, unit.Uses = estate.DependentUnit, "berth.service", []string{"/etc/berth.env"}
	other := unit
	other.Place, other.Uses = "ssh.service", nil
	k.dependents = []records.Dependent{file("/etc/berth.env#A", "/etc/berth.env", "env", 1), file("/etc/berth.env#B", "/etc/berth.env", "env", 1), file("/etc/motd", "/etc/motd", estate.FormatMention, 1), file("/etc/x", "/etc/x", "env", 0), unit, other}
	all, err := New(k, reached{secret.FromBytes(pem.EncodeToMemory(block))}).Prepare(t.Context(), "quay1")
	require.NoError(t, err)
	text := ""
	for _, p := range all {
		text += p.Text
	}
	assert.Contains(t, text, strings.TrimSpace(string(ssh.MarshalAuthorizedKey(line))))
	assert.Equal(t, 1, strings.Count(text, "/usr/bin/cat -- /etc/berth.env"))
	assert.Contains(t, text, "systemctl restart berth.service")
	assert.NotContains(t, text, "ssh.service")
	assert.NotContains(t, text, "/etc/motd")
	assert.NotContains(t, text, "Never-Shown-1")
	assert.NotContains(t, text, "PRIVATE KEY")

	// What may not be sent there yet is not needed to say what must be done there.
	all, err = New(k, k).Prepare(t.Context(), "quay1")
	require.NoError(t, err)
	assert.Contains(t, all[0].Text, "passwd mossmgr")
	k.kind = estate.KindDirectory
	k.accounts[0].Name, k.accounts[0].SID = "mossmgr", "S-1-5-21-1-2-3-1107"
	all, err = New(k, k).Prepare(t.Context(), "quay1")
	require.NoError(t, err)
	assert.Contains(t, all[0].Text, "S-1-5-21-1-2-3-1107")
	k.kind = "teapot"
	_, err = New(k, k).Prepare(t.Context(), "quay1")
	assert.Error(t, err)
	_, err = New(k, k).Prepare(t.Context(), "quay2")
	assert.ErrorIs(t, err, app.ErrNotFound)
}
