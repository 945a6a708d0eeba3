package standin_test

import (
	"crypto/rand"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect"
	cloudconnect "mossledger.example/moss/internal/connect/cloud"
	"mossledger.example/moss/internal/core/expiry"
	"mossledger.example/moss/internal/core/keys"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/standin/cloud"
)

// pairOf is a new key with its public line and its certificate.
func pairOf(t *testing.T, until time.Time) (private secret.Value, line, certificate, number string) {
	t.Helper()
	private, err := keys.Draw("ecdsa-sha2-nistp256", rand.Reader)
	require.NoError(t, err)
	pair, err := keys.PairOf(private)
	require.NoError(t, err)
	certificate, err = keys.Introduce(private, "timetable", time.Now().Add(-time.Hour), until, rand.Reader)
	require.NoError(t, err)
	number, err = keys.NumberOf(private)
	require.NoError(t, err)
	return private, pair.Line, certificate, number
}

// At every moment of a change by overlap one of the two keys is taken, also where answers are
// lost and each step is asked for twice; and what somebody else did meanwhile stops it.
func TestCloudKeysOverlap(t *testing.T) {
	f := newFeeds(t)
	c := cloudconnect.Connector{}
	old, err := keys.PairOf(f.key)
	require.NoError(t, err)
	next, _, certificate, number := pairOf(t, time.Time{})
	point := connect.Point{Account: connect.AccountRef{Name: f.account.DN}, Path: "identities/1002"}
	values := connect.Values{Old: secret.New(old.Line), New: secret.New(certificate)}
	taken := func(oldIs, newIs connect.Answer) {
		t.Helper()
		is, err := c.Probe(t.Context(), f.target, point, values)
		require.NoError(t, err)
		assert.Equal(t, []connect.Answer{oldIs, newIs}, []connect.Answer{is.Old, is.New}, is.Words)
		for i, key := range []secret.Value{f.key, next} {
			v, err := c.VerifyKey(t.Context(), f.target, f.account, key, nil)
			require.NoError(t, err)
			assert.Equal(t, []connect.Answer{oldIs, newIs}[i] == connect.AnswerYes, v.Accepted, v.Words)
		}
	}
	taken(connect.AnswerYes, connect.AnswerNo)
	for _, lose := range []bool{true, false} {
		f.SetFault(cloud.Fault{Lose: lose})
		for range 2 {
			err := c.Accept(t.Context(), f.target, point, values, connect.AcceptBoth)
			if lose && err != nil {
				var failure *connect.Failure
				require.ErrorAs(t, err, &failure)
				assert.True(t, failure.Unclear)
			}
		}
		taken(connect.AnswerYes, connect.AnswerYes)
		require.NoError(t, ignore(lose, c.Accept(t.Context(), f.target, point, values, connect.AcceptNew)))
		taken(connect.AnswerNo, connect.AnswerYes)
		require.NoError(t, ignore(lose, c.Accept(t.Context(), f.target, point, values, connect.AcceptBoth)))
		taken(connect.AnswerYes, connect.AnswerYes)
		require.NoError(t, ignore(lose, c.Accept(t.Context(), f.target, point, values, connect.AcceptOld)))
		require.NoError(t, ignore(lose, c.Accept(t.Context(), f.target, point, values, connect.AcceptOld)))
		taken(connect.AnswerYes, connect.AnswerNo)
		assert.NotContains(t, f.Keys("1002"), number, "what was made is taken away")
	}
	f.SetFault(cloud.Fault{})

	// Without the old one nothing is added beside it, and without the new one it stays.
	require.ErrorContains(t, c.Accept(t.Context(), f.target, point, values, connect.AcceptNew), "it has no key "+number+": the old one is left as it is")
	taken(connect.AnswerYes, connect.AnswerNo)
	require.NoError(t, c.Accept(t.Context(), f.target, point, values, connect.AcceptBoth))
	f.ChangeKey("1002", number, func(k *cloud.Key) { k.Disabled = true })
	require.ErrorContains(t, c.Accept(t.Context(), f.target, point, values, connect.AcceptNew), "is disabled")
	taken(connect.AnswerYes, connect.AnswerNo)
	_, _, another, _ := pairOf(t, time.Time{})
	require.ErrorContains(t, c.Accept(t.Context(), f.target, point, connect.Values{Old: secret.New(another), New: secret.New(certificate)}, connect.AcceptOld), "it has no key")
	for _, path := range []string{"", "identities/1002/keys", "identities/404", "/etc/passwd"} {
		require.Error(t, c.Accept(t.Context(), f.target, connect.Point{Path: path}, values, connect.AcceptBoth), path)
	}
}

// ignore passes over an answer that was lost on purpose: the project did what was asked.
func ignore(lost bool, err error) error {
	if lost {
		return nil
	}
	return err
}

// A key is issued by its certificate: its end is the key's, a far one is never, and it is
// taken back by deleting it.
func TestIssuingCloudKeys(t *testing.T) {
	f := newFeeds(t)
	c := cloudconnect.Connector{}
	soon := time.Now().Add(90 * 24 * time.Hour).Truncate(time.Second)
	for _, until := range []time.Time{soon, {}} {
		private, _, certificate, number := pairOf(t, until)
		change := expiry.EndChange{Act: expiry.Issue, Of: expiry.Key, Name: "timetable", ID: "1002", DN: f.account.DN, KeyID: number, Certificate: certificate}
		told, err := c.Ending(t.Context(), f.target, change)
		require.NoError(t, err)
		assert.False(t, told.There)
		if until.IsZero() {
			assert.Equal(t, expiry.Never, told.Will.State)
		} else {
			assert.Equal(t, expiry.At(soon), told.Will)
		}
		assert.Empty(t, told.Sights, "nobody stops")
		require.NoError(t, c.End(t.Context(), f.target, change, false))
		require.NoError(t, c.End(t.Context(), f.target, change, false), "twice is as once")
		v, err := c.VerifyKey(t.Context(), f.target, f.account, private, nil)
		require.NoError(t, err)
		assert.True(t, v.Accepted, v.Words)
		told, err = c.Ending(t.Context(), f.target, change)
		require.NoError(t, err)
		assert.True(t, told.There)
		if !until.IsZero() {
			f.ahead.Store(int64(91 * 24 * time.Hour))
			v, err = c.VerifyKey(t.Context(), f.target, f.account, private, nil)
			require.NoError(t, err)
			assert.Contains(t, v.Words, "expired at "+soon.UTC().Format(time.RFC3339))
			f.ahead.Store(0)
		}
		require.NoError(t, c.End(t.Context(), f.target, change, true))
		assert.NotContains(t, f.Keys("1002"), number)

		// A certificate is not taken for that of another key, nor for another identity's.
		_, _, other, _ := pairOf(t, until)
		change.Certificate = other
		_, err = c.Ending(t.Context(), f.target, change)
		require.ErrorContains(t, err, "not that of the key")
	}
	_, _, certificate, number := pairOf(t, soon)
	change := expiry.EndChange{Act: expiry.Issue, Of: expiry.Key, Name: "timetable", ID: "1002", KeyID: number, Certificate: certificate}
	require.NoError(t, c.End(t.Context(), f.target, change, false))
	change.ID, change.Name = "2003", "feed3"
	require.ErrorContains(t, c.End(t.Context(), f.target, change, false), "is there already")
	change.ID = "404"
	require.Error(t, c.End(t.Context(), f.target, change, false))
}
