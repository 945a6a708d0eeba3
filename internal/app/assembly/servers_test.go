package assembly_test

import (
	"io"
	"net"
	"strconv"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/standin/directory"
	"mossledger.example/moss/internal/standin/larkmoor"
)

// gate is another way to a server: a second address of it, that can be closed.
func gate(t *testing.T, to string) (port int, shut func()) {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	var all sync.WaitGroup
	all.Go(func() {
		for {
			from, err := listener.Accept()
			if err != nil {
				return
			}
			there, err := net.Dial("tcp", to)
			if err != nil {
				_ = from.Close()
				continue
			}
			all.Go(func() { _, _ = io.Copy(there, from); _ = there.Close() })
			all.Go(func() { _, _ = io.Copy(from, there); _ = from.Close() })
		}
	})
	shut = sync.OnceFunc(func() { _ = listener.Close(); all.Wait() })
	t.Cleanup(shut)
	_, port = larkmoor.Port(listener.Addr().String())
	return port, shut
}

// change changes a system as a person does.
func (f *ferry) change(name string, change func(*records.System)) {
	f.t.Helper()
	before := f.system(name)
	after := f.system(name)
	change(&after)
	require.NoError(f.t, f.Inventory.Change(f.t.Context(), ines, before, after, before.Revision))
}

func (f *ferry) visit(name string) records.Visit {
	f.t.Helper()
	f.survey(name)
	surveys, err := f.Store.Surveys(f.t.Context(), records.Query{Limit: 1, Sort: "-id"})
	require.NoError(f.t, err)
	visits, err := f.Store.VisitsAfter(f.t.Context(), surveys.Items[0].ID, 0)
	require.NoError(f.t, err)
	require.Len(f.t, visits, 1)
	return visits[0]
}

// A second server of a directory is no second directory.
func TestTwoServersOfOneDirectory(t *testing.T) {
	f := start(t)
	ctx := t.Context()
	port, _ := gate(t, f.estate.Address)
	add := func(name, base string) {
		_, err := f.Inventory.Add(ctx, ines, records.System{Name: name, Kind: "directory", Address: "127.0.0.1", Port: port, Steward: "dir", TrustedCA: f.estate.CA, Options: map[string]string{"base": base}})
		require.NoError(t, err)
	}
	add("second", "")
	refused := func() {
		t.Helper()
		v, report, err := f.Inventory.Check(ctx, ines, "second", "")
		require.NoError(t, err)
		assert.False(t, report.OK())
		assert.Contains(t, v.StateWords, "kept as dir")
		visit := f.visit("second")
		assert.Equal(t, "failed", visit.State)
		assert.Contains(t, visit.Words, "kept as dir")
		assert.Contains(t, visit.Next, "moss system change dir --option servers=127.0.0.1")
		f.account("svc-berth") // one account answers to the name
	}
	refused()
	refused() // and again, whatever was stored the first time
	assert.Equal(t, "done", f.visit("dir").State)
	found, err := f.Store.Findings(ctx, false, records.Query{Filters: []string{"kind=unread-system"}})
	require.NoError(t, err)
	require.Len(t, found.Items, 1)
	assert.Equal(t, "second", found.Items[0].Subject)

	// Two parts of a directory may be two systems.
	f.change("dir", func(v *records.System) { v.Options = map[string]string{"base": "OU=Service Accounts," + larkmoor.Base} })
	f.change("second", func(v *records.System) { v.Options = map[string]string{"base": "OU=Administration," + larkmoor.Base} })
	assert.Equal(t, "done", f.visit("second").State)
	// From then on they would clash again, and the first one keeps its place.
	f.change("second", func(v *records.System) { v.Options = nil })
	refused()
	assert.Equal(t, "incomplete", f.visit("dir").State, "read, with what lies beyond its base kept until somebody confirms")
}

// Reading goes to another server while the first is away; acts do not.
func TestReadingFromAnotherServer(t *testing.T) {
	f := start(t)
	ctx := t.Context()
	host, port := larkmoor.Port(f.estate.Address)
	front, shut := gate(t, f.estate.Address)
	a := f.account("svc-berth")

	// A server of another domain is none of this directory, although its
	// certificate is as good.
	config, err := f.estate.Authority.Server("127.0.0.1")
	require.NoError(t, err)
	stranger := directory.New(directory.Config{Base: "DC=skerry,DC=example", NetBIOS: "SKERRY", Windows: true, TLS: config})
	stranger.Add(directory.Entry{DN: "CN=mossmgr,OU=Administration," + larkmoor.Base, Attributes: map[string][]string{"objectClass": {"user"}, "sAMAccountName": {"mossmgr"}}, Password: larkmoor.ManagerPassword, Admin: true})
	other, err := stranger.Serve("127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = stranger.Close() })

	f.change("dir", func(v *records.System) {
		v.Port, v.Options = front, map[string]string{"servers": other + "; " + net.JoinHostPort(host, strconv.Itoa(port))}
	})
	_, report, err := f.Inventory.Check(ctx, ines, "dir", "")
	require.NoError(t, err)
	assert.False(t, report.OK(), "a check looks at each server")
	assert.Contains(t, report.Stages[len(report.Stages)-2].Detail, "a server of another directory")
	assert.Contains(t, report.Stages[len(report.Stages)-1].Detail, "is a server of the same directory")
	visit := f.visit("dir")
	require.Equal(t, "done", visit.State)
	require.Empty(t, visit.Problems)

	shut()
	visit = f.visit("dir")
	assert.Equal(t, "done", visit.State)
	assert.Zero(t, visit.Vanished)
	words := ""
	for _, p := range visit.Problems {
		words += p.What + "\n"
	}
	assert.Contains(t, words, "another directory")
	assert.Contains(t, words, "connection refused")

	_, report, err = f.Inventory.Check(ctx, ines, "dir", "")
	require.NoError(t, err)
	assert.False(t, report.OK())
	assert.Contains(t, report.Stages[len(report.Stages)-1].Detail, "is a server of the same directory", "the others are looked at while the first is away")

	connector, _ := connect.For("directory")
	target := connect.Target{Name: "dir", Kind: "directory", Address: host, Port: front, TrustedCA: f.estate.CA, Identity: f.system("dir").Facts.Identity, Options: f.system("dir").Options, Steward: connect.Steward{Account: larkmoor.ManagerDN, Password: secret.New(larkmoor.ManagerPassword)}}
	ref := connect.AccountRef{StableID: a.StableID, Name: a.Name, DN: a.DN}
	_, err = connector.Verify(ctx, target, ref, secret.New(larkmoor.Passwords["svc-berth"]))
	assert.Equal(t, connect.CodeUnreachable, connect.CodeOf(err), "a sign-in is proven where the change is made")
	err = connect.SetPassword(ctx, connector, target, ref, secret.New("Never-Sent-Anywhere-1"))
	assert.Equal(t, connect.CodeUnreachable, connect.CodeOf(err))
	assert.False(t, connect.IsUnclear(err))

	// An identity that nobody proved yet is no reason to trust another server.
	target.Identity = ""
	_, err = connector.Visit(ctx, target, connect.VisitRequest{}, func(connect.Batch) error { return nil })
	assert.Equal(t, connect.CodeUnreachable, connect.CodeOf(err))
	assert.ErrorContains(t, err, "not known yet")

	_, err = f.Inventory.Add(ctx, ines, records.System{Name: "bad", Kind: "directory", Address: "127.0.0.1", Port: 1, Options: map[string]string{"servers": "ldaps://dc2"}})
	assert.ErrorContains(t, err, "option servers")
}

// Of what cannot be read the first ones are listed, and how many more there are
// is told.
func TestManyProblemsAreCounted(t *testing.T) {
	f := start(t)
	for i := range 273 {
		f.estate.Directory.Add(directory.Entry{DN: "CN=nameless" + strconv.Itoa(i) + "," + larkmoor.Base, Attributes: map[string][]string{"objectClass": {"user"}}})
	}
	visit := f.visit("dir")
	require.Len(t, visit.Problems, 201)
	assert.Contains(t, visit.Problems[0].Place, "nameless")
	assert.Equal(t, "73 more could not be read: the first 200 are listed", visit.Problems[200].What)
}
