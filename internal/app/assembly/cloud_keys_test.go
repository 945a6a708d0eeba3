package assembly_test

import (
	"crypto/rand"
	"encoding/json"
	"slices"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/amend"
	"mossledger.example/moss/internal/app/rotate/planning"
	_ "mossledger.example/moss/internal/connect/cloud"
	"mossledger.example/moss/internal/core/expiry"
	"mossledger.example/moss/internal/core/keys"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/standin/cloud"
	"mossledger.example/moss/internal/standin/larkmoor"
	"mossledger.example/moss/internal/standin/unixhost"
)

const kioskFile = "/etc/kiosktimes/feed-key.json"

// withFeeds is a ferry that has the project of the feeds.
func withFeeds(t *testing.T) *ferry {
	t.Helper()
	return withFeedsBy(t, &clock{})
}

func withFeedsBy(t *testing.T, by *clock) *ferry {
	t.Helper()
	f := startBy(t, by)
	require.NoError(t, f.Inventory.SaveSteward(t.Context(), ines, "feeds", larkmoor.FeedsManager, secret.Value{}, secret.New(f.estate.FeedsKey)))
	host, port := larkmoor.Port(f.estate.Stores["larkmoor-feeds"])
	_, err := f.Inventory.Add(t.Context(), ines, records.System{Name: "feeds", Kind: "cloud-project", Address: host, Port: port, Steward: "feeds", TrustedCA: f.estate.CA})
	require.NoError(t, err)
	f.survey("feeds", "quay1", "tide1")
	return f
}

// keyFile is the key file of the kiosks.
func (f *ferry) keyFile() (number string, private secret.Value) {
	f.t.Helper()
	var file struct {
		Number  string `json:"private_key_id"`
		Private string `json:"private_key"`
		Email   string `json:"client_email"`
	}
	require.NoError(f.t, json.Unmarshal([]byte(f.file("quay1", kioskFile)), &file))
	assert.Equal(f.t, "kiosktimes@feeds.larkmoor.example", file.Email)
	return file.Number, secret.New(file.Private)
}

// kiosks: the file has a pair, the project accepts it and no other one, and the program runs.
func (f *ferry) kiosks() string {
	f.t.Helper()
	number, private := f.keyFile()
	own, err := keys.NumberOf(private)
	require.NoError(f.t, err)
	assert.Equal(f.t, own, number, "the number is that of the key")
	accepted := []string{}
	for _, id := range f.estate.Feeds.Keys("114003") {
		f.estate.Feeds.ChangeKey("114003", id, func(k *cloud.Key) {
			if !k.Disabled {
				accepted = append(accepted, id)
			}
		})
	}
	assert.Equal(f.t, []string{number}, accepted)
	state, _ := f.estate.Hosts["quay1"].UnitState("kiosktimes.service")
	assert.Equal(f.t, "active", state)
	return number
}

// A key of a service identity is rotated by overlap: a new one beside it, key and number
// replaced in the file that a program reads, proven by a token, the old one disabled; and back.
func TestCloudKeyRotation(t *testing.T) {
	f := withFeeds(t)
	ctx := t.Context()
	a := f.account("feeds/kiosktimes")
	k, err := f.Custody.Note(ctx, ines, a.ID)
	require.NoError(t, err)
	assert.Equal(t, []any{"cloud-key", 1, 1, "feeds"}, []any{string(k.Kind), k.Points, k.Locations, k.System})
	verdict, err := f.Custody.Take(ctx, ines, cred(f, k), secret.Value{})
	require.NoError(t, err)
	require.True(t, verdict.Accepted, verdict.Words)
	first := f.kiosks()
	f.estate.Feeds.ChangeKey("114003", first, func(key *cloud.Key) {
		assert.WithinDuration(t, time.Now().Add(26*time.Hour), key.NotAfter, 10*time.Minute)
	})

	r := f.rotate(k, rotation.UndoOnFailure)
	require.Equal(t, rotation.FinishedDone, r.Result)
	second := f.kiosks()
	assert.NotEqual(t, first, second)
	f.estate.Feeds.ChangeKey("114003", second, func(key *cloud.Key) {
		assert.WithinDuration(t, time.Now().Add(27*time.Hour), key.NotAfter, 10*time.Minute, "it lasts as long as the one before it")
	})
	f.estate.Feeds.ChangeKey("114003", first, func(key *cloud.Key) { assert.True(t, key.Disabled) })
	f.quiet()
	now := cred(f, k)
	assert.Equal(t, []int{1, 1}, []int{now.Points, now.Locations})
	assert.Equal(t, "kiosktimes "+second[:8], now.Name, "it is called after the number that is in force")

	before := f.file("quay1", kioskFile)

	// Another life, and another type, asked of the rehearsal and of the rotation alike.
	wish := planning.Request{OnFailure: rotation.UndoOnFailure, Type: "ssh-rsa", Lasts: 30 * 24 * time.Hour}
	v, err := f.Rotations.Rehearse(ctx, ines, cred(f, k), wish)
	require.NoError(t, err)
	require.Equal(t, "passed", v.Verdict, "%+v", v.Checks)
	id, err := f.Rotations.Start(ctx, ines, cred(f, k), wish, "test", "")
	require.NoError(t, err)
	require.Equal(t, rotation.FinishedDone, f.ended(id).Result)
	third := f.kiosks()
	f.estate.Feeds.ChangeKey("114003", third, func(key *cloud.Key) {
		assert.WithinDuration(t, time.Now().Add(30*24*time.Hour), key.NotAfter, 10*time.Minute)
	})
	f.quiet()

	// Undone, the file is what it was before and the key that was made is gone.
	_, err = f.Rotations.RehearseUndo(ctx, ines, id)
	require.NoError(t, err)
	require.NoError(t, f.Rotations.Decide(ctx, ines, id, rotation.DecideUndo, "test"))
	require.Equal(t, rotation.FinishedUndone, f.ended(id).Result)
	assert.Equal(t, second, f.kiosks())
	assert.NotContains(t, f.estate.Feeds.Keys("114003"), third)
	f.quiet()
	assert.Equal(t, before, f.file("quay1", kioskFile), "every byte")

	for name, wrong := range map[string]planning.Request{
		"a life too short":       {OnFailure: rotation.UndoOnFailure, Lasts: time.Minute},
		"a type it cannot be":    {OnFailure: rotation.UndoOnFailure, Type: "ssh-ed25519"},
		"a length of a password": {OnFailure: rotation.UndoOnFailure, Length: 20},
	} {
		_, err := f.Rotations.Rehearse(ctx, ines, cred(f, k), wrong)
		require.ErrorIs(t, err, app.ErrInput, name)
	}
}

// Answers of the project that get lost are asked about: a key that was given twice, or not at
// all, or stays enabled without a holder, would be the end of it.
func TestCloudKeyRotationWithLostAnswers(t *testing.T) {
	f := withFeeds(t)
	ctx := t.Context()
	k, err := f.Custody.Note(ctx, ines, f.account("feeds/kiosktimes").ID)
	require.NoError(t, err)
	_, err = f.Custody.Take(ctx, ines, cred(f, k), secret.Value{})
	require.NoError(t, err)
	f.estate.Feeds.SetFault(cloud.Fault{Lose: true})
	r := f.rotate(k, rotation.UndoOnFailure)
	f.estate.Feeds.SetFault(cloud.Fault{})
	require.Equal(t, rotation.FinishedDone, r.Result)
	f.kiosks()
	assert.Len(t, f.estate.Feeds.Keys("114003"), 2)
	f.quiet()

	// A program that does not come up with the new key has the old one back.
	host := f.estate.Hosts["quay1"]
	was := f.kiosks()
	var refused atomic.Bool
	host.SetFault(unixhost.Fault{Command: func(_ string, argv []string) (int, string, bool) {
		if !slices.Contains(argv, "-l") && slices.Contains(argv, "restart") && slices.Contains(argv, "kiosktimes.service") && refused.CompareAndSwap(false, true) {
			return 1, "Job for kiosktimes.service failed", true
		}
		return 0, "", false
	}})
	r = f.rotate(k, rotation.UndoOnFailure)
	require.Equal(t, rotation.FinishedUndone, r.Result)
	assert.Equal(t, was, f.kiosks())
}

// A key is issued by two people, and taken back by deleting it; who asks for what cannot be is
// told so before anybody is asked.
func TestIssuingAKey(t *testing.T) {
	f := withFeeds(t)
	ctx := t.Context()
	f.person("ines", "operator", "approver", "administrator")
	f.person("ola", "approver")
	a := f.account("feeds/fares-trial")
	made := func(until time.Time) (string, string) {
		private, err := keys.Draw("ecdsa-sha2-nistp256", rand.Reader)
		require.NoError(t, err)
		number, err := keys.NumberOf(private)
		require.NoError(t, err)
		certificate, err := keys.Introduce(private, "fares-trial", time.Now().Add(-time.Hour), until, rand.Reader)
		require.NoError(t, err)
		return certificate, number
	}
	certificate, number := made(time.Now().Add(30 * 24 * time.Hour))
	v, err := f.Amendments.RehearseEnds(ctx, ines, []amend.EndWish{{Account: a.ID, Act: expiry.Issue, Certificate: certificate}}, "")
	require.NoError(t, err)
	require.Equal(t, "passed", v.Verdict, "%+v", v.Checks)
	_, err = f.Amendments.Start(ctx, ines, v.ID, "a trial")
	require.NoError(t, f.approved(ola, err))
	require.Equal(t, rotation.FinishedDone, f.amended(v.ID).Result)
	assert.Contains(t, f.estate.Feeds.Keys("114004"), number)
	f.quiet()
	require.NoError(t, f.approved(ola, f.Amendments.Decide(ctx, ines, v.ID, rotation.DecideUndo, "over")))
	require.Eventually(t, func() bool { return f.amended(v.ID).Result == rotation.FinishedUndone }, 20*time.Second, 10*time.Millisecond)
	assert.NotContains(t, f.estate.Feeds.Keys("114004"), number)

	past, _ := made(time.Now().Add(-time.Minute))
	for name, wish := range map[string]amend.EndWish{
		"no certificate":    {Account: a.ID, Act: expiry.Issue},
		"one that ended":    {Account: a.ID, Act: expiry.Issue, Certificate: past},
		"none":              {Account: a.ID, Act: expiry.Issue, Certificate: "eyJhbGciOiJub25lIn0.e30."},
		"for a host's user": {Account: f.account("bookings1/svc-fuelcard").ID, Act: expiry.Issue, Certificate: certificate},
	} {
		_, err := f.Amendments.RehearseEnds(ctx, ines, []amend.EndWish{wish}, "")
		require.ErrorIs(t, err, app.ErrInput, name)
	}
}
