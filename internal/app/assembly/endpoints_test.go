package assembly_test

import (
	"bytes"
	"database/sql"
	"fmt"
	"io"
	"net"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/people"
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/ledger"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/standin/larkmoor"
	"mossledger.example/moss/internal/store/database"
)

// stranger listens and keeps all that arrives. It answers what makes a client
// go on: as a data store without TLS.
type stranger struct {
	listener net.Listener
	lock     sync.Mutex
	got      bytes.Buffer
	calls    int
}

func newStranger(t *testing.T) *stranger {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	s := &stranger{listener: listener}
	var all sync.WaitGroup
	all.Add(1)
	go func() {
		defer all.Done()
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			all.Add(1)
			go func() {
				defer all.Done()
				defer conn.Close()
				s.lock.Lock()
				s.calls++
				s.lock.Unlock()
				_ = conn.SetDeadline(time.Now().Add(2 * time.Second))
				buffer := make([]byte, 4096)
				for {
					n, err := conn.Read(buffer)
					s.lock.Lock()
					s.got.Write(buffer[:n])
					s.lock.Unlock()
					if err != nil {
						return
					}
					answer := "+OK\r\n"
					if bytes.Contains(bytes.ToLower(buffer[:n]), []byte("hello")) {
						answer = "-ERR unknown command 'hello'\r\n"
					}
					if _, err := io.WriteString(conn, answer); err != nil {
						return
					}
				}
			}()
		}
	}()
	t.Cleanup(func() { _ = listener.Close(); all.Wait() })
	return s
}

func (s *stranger) port() int { return s.listener.Addr().(*net.TCPAddr).Port }

func (s *stranger) text() string {
	s.lock.Lock()
	defer s.lock.Unlock()
	return s.got.String()
}

func (f *ferry) person(name string, roles ...string) {
	f.t.Helper()
	require.NoError(f.t, f.Store.AddUser(f.t.Context(), records.User{Name: name, Password: "x", Roles: roles}, false, ledger.Entry{Actor: "ines", Act: "user.add", Phase: ledger.Outcome}))
}

func (f *ferry) system(name string) records.System {
	f.t.Helper()
	v, err := f.Store.System(f.t.Context(), name)
	require.NoError(f.t, err)
	return v
}

// noSecret: nothing of the manager's or the accounts' passwords arrived.
func (s *stranger) noSecret(t *testing.T, what string) {
	t.Helper()
	got := s.text()
	for _, value := range append([]string{larkmoor.ManagerPassword}, passwords()...) {
		require.NotContains(t, got, value, what)
	}
}

func passwords() (out []string) {
	for _, value := range larkmoor.Passwords {
		out = append(out, value)
	}
	return out
}

// TestSecretsGoOnlyWhereTheyWereGiven is the trial of somebody who may add and
// change systems, or writes into the database, and waits at an address.
func TestSecretsGoOnlyWhereTheyWereGiven(t *testing.T) {
	f := start(t)
	ctx := t.Context()
	a := f.take("svc-manifest")
	f.person("ines", "administrator", "operator", "approver")
	f.person("ben", "operator")
	f.person("ola", "approver")
	s := newStranger(t)

	t.Run("a new system with a stored log-on", func(t *testing.T) {
		_, err := f.Inventory.Add(ctx, ben, records.System{Name: "mine", Kind: "redis", Address: "127.0.0.1", Port: s.port(), Steward: "dir", Options: map[string]string{"tls": "off"}})
		require.NoError(t, err)
		_, report, err := f.Inventory.Check(ctx, ben, "mine", "")
		require.NoError(t, err)
		assert.False(t, report.OK())
		last := report.Stages[len(report.Stages)-1]
		assert.Equal(t, connect.StageSignIn, last.Stage)
		assert.Contains(t, last.Detail, "moss approval grant")
		f.survey("mine")
		s.noSecret(t, "checked and surveyed")
		waits, err := f.Store.WaitsFor(ctx, f.system("mine").ID)
		require.NoError(t, err)
		_, err = f.Approvals.Approve(ctx, ben, waits.ID, waits.Digest, "")
		require.ErrorIs(t, err, app.ErrRefused, "who asked does not approve")
		_, err = f.Approvals.Refuse(ctx, ola, waits.ID, "whose is that?")
		require.NoError(t, err)
		_, err = f.Approvals.Approve(ctx, ola, waits.ID, waits.Digest, "")
		require.ErrorIs(t, err, app.ErrRefused, "what was refused stays refused")
		s.noSecret(t, "refused")
	})

	t.Run("an approved one that is moved", func(t *testing.T) {
		was := f.system("dir")
		for name, change := range map[string]func(v *records.System){
			"address": func(v *records.System) { v.Port = s.port() },
			"CA":      func(v *records.System) { v.TrustedCA += "\n" + f.estate.CA },
			"log-on":  func(v *records.System) { v.Steward = "hosts" },
			"none":    func(v *records.System) { v.Steward = ""; v.Port = s.port() },
		} {
			v := f.system("dir")
			next := v
			change(&next)
			require.NoError(t, f.Inventory.Change(ctx, ines, v, next, v.Revision), name)
			verdict, err := f.Custody.Verify(ctx, access.Service(), cred(f, a))
			require.ErrorIs(t, err, app.ErrRefused, "%s: %+v", name, verdict)
			_, err = f.Rotations.Rehearse(ctx, ines, cred(f, a), undo)
			if err == nil {
				_, err = f.Rotations.Start(ctx, ines, cred(f, a), undo, "x", "")
			}
			require.Error(t, err, "no rotation either")
			v = f.system("dir")
			back := was
			require.NoError(t, f.Inventory.Change(ctx, ines, v, back, v.Revision))
			assert.Zero(t, f.system("dir").Waits, "changed back, nothing waits")
			verdict, err = f.Custody.Verify(ctx, access.Service(), cred(f, a))
			require.NoError(t, err, "%s", name)
			require.True(t, verdict.Accepted)
		}
		s.noSecret(t, "moved")
		entries, err := f.Store.LedgerList(ctx, records.Query{Filters: []string{"act=system.change"}})
		require.NoError(t, err)
		assert.NotEmpty(t, entries.Items[0].Changes, "from and to are recorded")
	})

	t.Run("an option that many share", func(t *testing.T) {
		s := newStranger(t)
		_, err := f.Inventory.Add(ctx, ines, records.System{Name: "cache", Kind: "redis", Address: "127.0.0.1", Port: s.port(), Steward: "hosts"})
		require.NoError(t, err)
		waits, err := f.Store.WaitsFor(ctx, f.system("cache").ID)
		require.NoError(t, err)
		_, err = f.Approvals.Approve(ctx, ola, waits.ID, waits.Digest, "seen")
		require.NoError(t, err)
		assert.Contains(t, f.system("cache").Trusted, "asked by ines, approved by ola")
		// Approved with TLS: the stranger has no certificate, and gets nothing.
		_, _, err = f.Inventory.Check(ctx, ben, "cache", "")
		require.NoError(t, err)
		require.NoError(t, f.Inventory.SetCommonOption(ctx, ben, records.CommonOption{Field: "kind", Value: "redis", Name: "tls", Setting: "off"}))
		_, report, err := f.Inventory.Check(ctx, ben, "cache", "")
		require.NoError(t, err)
		assert.False(t, report.OK())
		s.noSecret(t, "TLS turned off for all")
		assert.NotZero(t, f.system("cache").Waits)
	})

	t.Run("written into the database", func(t *testing.T) {
		db, err := sql.Open("sqlite", "file:"+filepath.Join(f.folder, database.FileName)+"?_busy_timeout=10000")
		require.NoError(t, err)
		defer db.Close()
		set := func(statement string, args ...any) {
			_, err := db.ExecContext(ctx, statement, args...)
			require.NoError(t, err, statement)
		}
		var sealed []byte
		require.NoError(t, db.QueryRowContext(ctx, "SELECT endpoint FROM systems WHERE name = 'dir'").Scan(&sealed))
		refused := func(why string) {
			t.Helper()
			_, err := f.Custody.Verify(ctx, access.Service(), cred(f, a))
			require.Error(t, err, why)
			s.noSecret(t, why)
		}
		set("UPDATE systems SET port = ? WHERE name = 'dir'", s.port())
		refused("another port")
		set("UPDATE systems SET port = ? WHERE name = 'dir'", f.portOf("dir"))
		_, err = f.Custody.Verify(ctx, access.Service(), cred(f, a))
		require.NoError(t, err)
		// A system of one's own takes the place of the account's.
		_, err = f.Inventory.Add(ctx, ben, records.System{Name: "bait", Kind: "postgresql", Address: "127.0.0.1", Port: s.port(), Options: map[string]string{"tls": "off"}})
		require.NoError(t, err, "nothing secret goes there: it needs nobody")
		set("UPDATE accounts SET system_id = (SELECT id FROM systems WHERE name = 'bait') WHERE id = ?", a.ID)
		moved, err := f.Store.Account(ctx, a.ID)
		require.NoError(t, err)
		_, err = f.Custody.Verify(ctx, access.Service(), cred(f, moved))
		require.ErrorIs(t, err, secret.ErrDoesNotOpen, "the value is bound to the system of its account")
		s.noSecret(t, "account moved")
		set("UPDATE accounts SET system_id = ? WHERE id = ?", a.SystemID, a.ID)
		// A sealed endpoint belongs to its system.
		set("UPDATE systems SET endpoint = ? WHERE name = 'mine'", sealed)
		_, report, err := f.Inventory.Check(ctx, ben, "mine", "")
		require.NoError(t, err)
		assert.False(t, report.OK())
		// A request is what was asked, by whom it was asked.
		waits, err := f.Store.WaitsFor(ctx, f.system("cache").ID)
		require.NoError(t, err)
		set("UPDATE approvals SET asked_by = 'ola' WHERE id = ?", waits.ID)
		_, err = f.Approvals.Approve(ctx, ben, waits.ID, waits.Digest, "")
		require.ErrorIs(t, err, records.ErrForged)
		// Nobody becomes a person, or another one, by a row.
		set("INSERT INTO users (name, password, roles, created) VALUES ('eve', 'x', 'approver administrator', '2026-01-01')")
		_, err = f.Store.User(ctx, eve.Name)
		require.ErrorIs(t, err, records.ErrForged)
		set("UPDATE users SET roles = 'approver operator' WHERE name = 'ben'")
		_, err = f.Store.User(ctx, ben.Name)
		require.ErrorIs(t, err, records.ErrForged)
		s.noSecret(t, "the whole afternoon")
	})
	assert.NotZero(t, s.calls, "the stranger was really called")
}

func (f *ferry) portOf(name string) int {
	_, port := larkmoor.Port(f.estate.Address)
	return port
}

// The first hour by oneself is possible, and every act of it is marked.
func TestOnePersonActsAloneAndIsMarked(t *testing.T) {
	f := start(t)
	f.person("ines", "administrator", "operator", "approver")
	assert.Contains(t, f.system("dir").Trusted, "ines alone")
	entries, err := f.Store.LedgerList(t.Context(), records.Query{Filters: []string{"act=endpoint.trust"}, Limit: 50})
	require.NoError(t, err)
	require.NotEmpty(t, entries.Items)
	assert.Contains(t, entries.Items[0].Detail, "alone")

	// The second approver is still added alone; from then on it takes two, also
	// to be rid of the second.
	ctx := t.Context()
	add := func(name, role string) records.ApprovalID {
		t.Helper()
		_, waits, err := f.People.Add(ctx, ines, people.Person{Name: name, Password: secret.New("slow-tides-keep-time"), Roles: []string{role}})
		require.NoError(t, err)
		return waits
	}
	assert.Zero(t, add("ola", "approver"))
	before, err := f.Store.User(ctx, "ola")
	require.NoError(t, err)
	other, yes := secret.New("known-to-ines-only-now"), true
	for name, change := range map[string]people.Change{
		"disable":  {Disabled: &yes},
		"roles":    {Roles: []string{"viewer"}},
		"password": {Password: &other},
	} {
		waits, err := f.People.Change(ctx, ines, "ola", change)
		require.NoError(t, err)
		require.NotZero(t, waits, name)
		now, err := f.Store.User(ctx, "ola")
		require.NoError(t, err)
		assert.Equal(t, before, now, "nothing changed yet")
	}
	// So does a third one, whose password ines would know.
	waits := add("third", "approver")
	require.NotZero(t, waits)
	_, err = f.Store.User(ctx, "third")
	require.ErrorIs(t, err, records.ErrNotFound)
	asked, err := f.Store.Approval(ctx, waits)
	require.NoError(t, err)
	_, err = f.Approvals.Approve(ctx, ines, waits, asked.Digest, "")
	require.ErrorIs(t, err, app.ErrRefused)
	_, err = f.Approvals.Approve(ctx, ola, waits, strings.Repeat("0", 64), "")
	require.ErrorIs(t, err, app.ErrRefused, "not what was looked at")
	_, err = f.Approvals.Approve(ctx, ola, waits, asked.Digest, "welcome")
	require.NoError(t, err)
	third, err := f.Store.User(ctx, "third")
	require.NoError(t, err)
	assert.Equal(t, []string{"approver"}, third.Roles)
	// Who cannot approve is added as before.
	assert.Zero(t, add("vera", "viewer"))
}

func TestARotationWithoutARehearsalTakesTwo(t *testing.T) {
	f := start(t)
	ctx := t.Context()
	a := f.take("svc-manifest")
	f.person("ines", "operator", "approver")
	f.person("ola", "approver")
	rotation, approval, err := f.Rotations.Override(ctx, ines, cred(f, a), undo, "leaked", "the host is down for the night")
	require.NoError(t, err)
	require.Zero(t, rotation)
	page, err := f.Store.Rotations(ctx, records.Query{})
	require.NoError(t, err)
	require.Empty(t, page.Items)
	v, err := f.Store.Approval(ctx, approval)
	require.NoError(t, err)
	done, err := f.Approvals.Approve(ctx, ola, approval, v.Digest, "")
	require.NoError(t, err)
	assert.Contains(t, done.Words, "rotation 1")
	r := f.ended(1)
	assert.Equal(t, "done", r.Result)
	assert.Equal(t, "ines", r.RequestedBy)
	assert.Contains(t, r.Override, "approved by ola")
}

// A role that was taken since ends what waits as well: it is not carried out in the
// name of who may not do it any more.
func TestWhoAskedMustStillBeAllowed(t *testing.T) {
	f := start(t)
	ctx := t.Context()
	a := f.take("svc-manifest")
	f.person("ola", "approver")
	for name, lose := range map[string]func(*records.User){
		"ben": func(u *records.User) { u.Roles = []string{"viewer"} },
		"eve": func(u *records.User) { u.Disabled = true },
	} {
		f.person(name, "operator")
		who := access.Actor{Name: name, Roles: []string{"operator"}}
		_, waits, err := f.Rotations.Override(ctx, who, cred(f, a), undo, "leaked", "in a hurry")
		require.NoError(t, err)
		require.NotZero(t, waits)
		user, err := f.Store.User(ctx, name)
		require.NoError(t, err)
		lose(&user)
		require.NoError(t, f.Store.ChangeUser(ctx, user, true, ledger.Entry{Actor: "ines", Act: "user.change", Phase: ledger.Outcome}))
		v, err := f.Store.Approval(ctx, waits)
		require.NoError(t, err)
		_, err = f.Approvals.Approve(ctx, ola, waits, v.Digest, "")
		require.ErrorIs(t, err, app.ErrRefused)
		assert.ErrorContains(t, err, name+", who asked for it, may not do it any more")
		v, err = f.Store.Approval(ctx, waits)
		require.NoError(t, err)
		assert.Equal(t, records.ApprovalAsked, v.State, "it still waits to be refused")
		_, err = f.Approvals.Refuse(ctx, ola, waits, "ask again")
		require.NoError(t, err)
	}
	page, err := f.Store.Rotations(ctx, records.Query{})
	require.NoError(t, err)
	assert.Empty(t, page.Items)
}

// A database from before is taken over once, and cannot be made to be again.
func TestADatabaseFromBeforeIsBoundOnce(t *testing.T) {
	f := start(t)
	ctx := t.Context()
	a := f.take("svc-manifest")
	f.Stop()
	require.NoError(t, f.Store.Close())
	db, err := sql.Open("sqlite", "file:"+filepath.Join(f.folder, database.FileName))
	require.NoError(t, err)
	_, err = db.ExecContext(ctx, "UPDATE systems SET endpoint = NULL")
	require.NoError(t, err)
	require.NoError(t, db.Close())
	f.reopen()
	_, err = f.Custody.Verify(ctx, access.Service(), cred(f, a))
	require.ErrorIs(t, err, app.ErrRefused, "the ledger says that it was done before")
}

// Where nothing secret went nobody had to look: when something will, the second
// person sees all of it, not only what was added last.
func TestWhatIsApprovedShowsTheAddress(t *testing.T) {
	f := start(t)
	ctx := t.Context()
	f.person("ines", "administrator", "operator", "approver")
	f.person("ben", "operator")
	_, err := f.Inventory.Add(ctx, ben, records.System{Name: "mine", Kind: "redis", Address: "198.51.100.66", Port: 6390, Options: map[string]string{"tls": "off"}})
	require.NoError(t, err)
	have := f.system("mine")
	next := have
	next.Steward = "hosts"
	require.NoError(t, f.Inventory.Change(ctx, ben, have, next, have.Revision))
	waits, err := f.Store.WaitsFor(ctx, have.ID)
	require.NoError(t, err)
	shown := map[string]string{}
	for _, c := range waits.Changes {
		require.Empty(t, c.From, c.Field)
		shown[c.Field] = c.To
	}
	assert.Equal(t, "198.51.100.66", shown["mine: address"])
	assert.Equal(t, "6390", shown["mine: port"])
	assert.Equal(t, "hosts", shown["mine: steward"])
	assert.Equal(t, "off", shown["mine: option tls"])
	_, err = f.Approvals.Approve(ctx, ines, waits.ID, waits.Digest, "")
	require.NoError(t, err)
	assert.Contains(t, f.system("mine").Trusted, "approved by ines")
}

// Somebody changes a system to and fro while another one approves: what is sealed is
// what was looked at, or nothing.
func TestAnEndpointThatChangesWhileItIsApproved(t *testing.T) {
	f := start(t)
	ctx := t.Context()
	f.person("ines", "administrator", "operator", "approver")
	f.person("ben", "operator")
	const good, bad = "192.0.2.10", "198.51.100.66"
	approved := 0
	for round := range 40 {
		name := fmt.Sprintf("moves%d", round)
		_, err := f.Inventory.Add(ctx, ben, records.System{Name: name, Kind: "redis", Address: good, Port: 6390, Steward: "hosts", Options: map[string]string{"tls": "off"}})
		require.NoError(t, err)
		v := f.system(name)
		waits, err := f.Store.WaitsFor(ctx, v.ID)
		require.NoError(t, err)
		var all sync.WaitGroup
		all.Add(2)
		go func() {
			defer all.Done()
			for range 6 {
				have, err := f.Store.System(ctx, name)
				if err != nil {
					return
				}
				next := have
				next.Address = map[string]string{good: bad, bad: good}[have.Address]
				_ = f.Inventory.Change(ctx, ben, have, next, have.Revision)
			}
		}()
		go func() {
			defer all.Done()
			if _, err := f.Approvals.Approve(ctx, ines, waits.ID, waits.Digest, ""); err == nil {
				approved++
			}
		}()
		all.Wait()
		// Set to the bad address, nothing secret may go there: what is sealed is good, or nothing.
		have := f.system(name)
		if have.Address != bad {
			next := have
			next.Address = bad
			require.NoError(t, f.Inventory.Change(ctx, ben, have, next, have.Revision))
		}
		_, report, err := f.Inventory.Check(ctx, ben, name, "")
		require.NoError(t, err)
		require.False(t, report.OK())
		last := report.Stages[len(report.Stages)-1]
		require.True(t, strings.Contains(last.Detail, "approv") || last.Stage == connect.StageConnect || last.Stage == connect.StageResolve, "%+v", last)
		pending, err := f.Store.WaitsFor(ctx, have.ID)
		require.NoError(t, err, "the bad address waits for a second person")
		require.NotEqual(t, waits.ID, pending.ID)
	}
	t.Logf("%d of 40 were approved before they moved", approved)
}
