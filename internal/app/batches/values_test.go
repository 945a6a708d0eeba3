package batches

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/rotate"
	"mossledger.example/moss/internal/core/rotation"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
)

var tom = access.Actor{Name: "tom", Roles: []string{access.RoleApprover}}

// addTom makes another person who may approve.
func (y *yard) addTom() {
	y.t.Helper()
	require.NoError(y.t, y.AddUser(y.t.Context(), records.User{Name: "tom", Roles: []string{access.RoleApprover}, Password: "x"}, false))
}

// list is a list of names with values that are good.
func list(n int) (text string, values []string) {
	for i := range n {
		v := fmt.Sprintf("Kelp%d,Wrack-%dqZ7!vTn", i, 10*i+3)
		values = append(values, v)
		text += name(i) + ",\"" + v + "\"\r\n"
	}
	return text, values
}

func (y *yard) asked(id records.BatchID) (waits *rotate.WaitsError) {
	y.t.Helper()
	_, err := y.Batches.Start(y.t.Context(), ines, id, false)
	require.ErrorAs(y.t, err, &waits)
	return waits
}

func (y *yard) grant(id records.ApprovalID) error {
	v, err := y.Approval(y.t.Context(), id)
	require.NoError(y.t, err)
	_, err = y.approvals.Approve(y.t.Context(), tom, id, v.Digest, "seen")
	return err
}

// Values that a person gave are sealed, reach the rotation of their account and no other,
// and are used only when a second person approved it; then they are forgotten.
func TestGivenValues(t *testing.T) {
	y := newYard(t, 3)
	y.addTom()
	text, values := list(3)
	v := y.create(Ask{Values: secret.New("\xef\xbb\xbfname,value\n# of the move\n" + text)})
	assert.Equal(t, [4]int{3, 3, 3, 3}, [4]int{v.Total, v.Ready, v.Second, v.Given})
	assert.Equal(t, "a list of 3 names with new values", v.Chosen)
	items, err := y.ItemsOf(t.Context(), v.ID)
	require.NoError(t, err)
	assert.Equal(t, []string{"a value that ines gave, and knows"}, items[1].Second)

	// Started by somebody else, who gave the values could approve them.
	_, err = y.Batches.Start(t.Context(), access.Actor{Name: "ben", Roles: access.Roles()}, v.ID, false)
	require.ErrorIs(t, err, app.ErrRefused)
	require.ErrorContains(t, err, "ines starts it, and somebody else approves it")
	waits := y.asked(v.ID)
	assert.Equal(t, waits.Approval, y.asked(v.ID).Approval, "the same is not asked twice")
	_, err = y.approvals.Approve(t.Context(), ines, waits.Approval, "", "")
	require.ErrorContains(t, err, "somebody else approves it")
	assert.Empty(t, y.began)
	require.NoError(t, y.grant(waits.Approval))
	v = y.until(v.ID, records.BatchDone)
	assert.Equal(t, 3, v.Done)
	assert.Equal(t, "approved by tom, approval 1", v.Consent)
	for i, value := range values {
		wish := y.wishes[name(i)]
		assert.Equal(t, "ines", wish.GivenBy)
		assert.Equal(t, y.base.Fingerprints.Of(secret.New(value)), wish.Given)
	}
	require.NoError(t, y.Forget(t.Context()))
	_, err = y.GivenValue(t.Context(), y.ids[0], y.wishes[name(0)].Given)
	require.ErrorIs(t, err, app.ErrNotFound)
}

// Everything that is wrong with a list of values is told by line, with neither of its
// fields: they may have been swapped.
func TestAListOfValuesThatIsWrong(t *testing.T) {
	y := newYard(t, 4)
	require.NoError(t, y.ReleaseCustody(t.Context(), y.ids[3]))
	good := "Kelp7-Wrack-3qZ7!vTn"
	for words, text := range map[string]string{
		"line 1: its first field names no credential":                        "xK9#secret-thing-77Q,svc-00\n",
		"line 2: its credential is that of line 1":                           "svc-00," + good + "\nsvc-00,Other8-Wrack-3qZ7!vTn\n",
		"line 2: its value is that of line 1":                                "svc-00," + good + "\nsvc-01," + good + "\n",
		"line 1: svc-03 is not in custody":                                   "svc-03," + good + "\n",
		"line 1: svc-00: the value has 11 characters":                        "svc-00,aK9#xQ2$vL7\n",
		"line 1: svc-00: the value is too weak: it has about":                "svc-00,Password123456\n",
		"line 1: svc-00: the value is too weak: a name stands in it":         "svc-00,xK9#SVC-00vTqLw2pX!z\n",
		"line 1: it has 3 fields":                                            "svc-00,a,b\n",
		"line 2: it has 1 fields":                                            "svc-00," + good + "\nsvc-01\n",
		"line 1: it is no CSV":                                               "svc-00,a\"b\n",
		"line 1: svc-00: the value has a character that cannot be typed":     "svc-00,\"Kelp7\nWrack-3qZ7!vTn\"\n",
		"line 1: svc-00: the value begins or ends with a space":              "svc-00," + good + " \n",
		"no credential in custody is chosen":                                 "# nothing\n",
		"and 5 more":                                                         strings.Repeat("x,y\n", 25),
		"line 1: it is, or lately was, the value of a credential in custody": "svc-00,taken\n",
		"a length and characters are those of values that are made":          "long",
	} {
		ask := Ask{Values: secret.New(text), Reason: "test"}
		ask.Wish.OnFailure = rotation.UndoOnFailure
		if text == "long" {
			ask.Wish.Length = 20
		}
		if strings.Contains(text, "taken") {
			// In custody of another account already.
			used := "Bladder-Wrack-99qZ!vT"
			c, err := y.Credential(t.Context(), y.ids[2])
			require.NoError(t, err)
			s, err := y.Batches.sealed.NewSecret(c, 0, secret.New(used))
			require.NoError(t, err)
			require.NoError(t, y.TakeCustody(t.Context(), s, "ines", "taken"))
			ask.Values = secret.New("svc-00," + used + "\n")
		}
		_, err := y.Create(t.Context(), ines, ask)
		require.ErrorIs(t, err, app.ErrInput, words)
		require.ErrorContains(t, err, words)
		for _, secret := range []string{good, "xK9#", "aK9#", "Password1", "Bladder"} {
			assert.NotContains(t, err.Error(), secret)
		}
	}
	page, err := y.AllBatches(t.Context(), records.Query{})
	require.NoError(t, err)
	assert.Empty(t, page.Items)
	names, err := y.Fingerprints(t.Context())
	require.NoError(t, err)
	assert.Len(t, names, 4, "nothing of the lists is kept")
}

// One person is not enough for some: a second one approves all together, and what is not
// the same any more when its turn comes does not begin.
func TestASecondPersonForABatch(t *testing.T) {
	y := newYard(t, 4)
	y.addTom()
	y.second[name(1)], y.second[name(2)] = "quays (label quays)", "quays (label quays)"
	v := y.create(Ask{Names: names(4)})
	assert.Equal(t, 2, v.Second)
	waits := y.asked(v.ID)
	assert.Equal(t, []string{"quays (label quays)"}, waits.Why)
	asked, err := y.Approval(t.Context(), waits.Approval)
	require.NoError(t, err)
	assert.Equal(t, "dir/svc-01, dir/svc-02", asked.Changes[0].To)
	assert.Contains(t, asked.What, "rotate the 4 that are ready of batch 1")

	// Rehearsed anew since: that was not approved.
	_, err = y.Stop(t.Context(), ines, v.ID)
	require.NoError(t, err)
	y.lock.Lock()
	y.fails[name(0)] = "away"
	y.lock.Unlock()
	other := y.create(Ask{Names: names(4)})
	require.Equal(t, 1, other.Blocked)
	y.lock.Lock()
	y.digests[name(2)] = "changed since"
	delete(y.fails, name(0))
	y.lock.Unlock()
	require.NoError(t, y.grant(waits.Approval))
	v = y.until(v.ID, records.BatchDone)
	assert.Equal(t, "done done failed done", y.states(v.ID))
	items, err := y.ItemsOf(t.Context(), v.ID)
	require.NoError(t, err)
	assert.Contains(t, items[2].Words, "not what was approved")
	assert.Equal(t, map[string]string{name(1): "approved by tom, approval 1", name(2): "approved by tom, approval 1"}, y.consents)

	// Tried again, it is asked again.
	_, err = y.Retry(t.Context(), ines, v.ID)
	require.NoError(t, err)
	v = y.until(v.ID, records.BatchRehearsed)
	assert.Empty(t, v.Consent)
	again := y.asked(v.ID)
	assert.NotEqual(t, waits.Approval, again.Approval)
	// Approved when it is not what was asked for any more.
	y.lock.Lock()
	y.fails[name(2)] = "away"
	y.lock.Unlock()
	require.NoError(t, y.SetItem(t.Context(), records.BatchItem{BatchID: v.ID, Position: 3, State: records.ItemFailed}))
	require.ErrorContains(t, y.grant(again.Approval), "nothing of batch 1 is ready")
}

// While nobody else could approve, one person is enough, and says so.
func TestAloneWithABatch(t *testing.T) {
	y := newYard(t, 1)
	text, _ := list(1)
	v := y.create(Ask{Values: secret.New(text)})
	_, err := y.Batches.Start(t.Context(), ines, v.ID, false)
	require.NoError(t, err)
	v = y.until(v.ID, records.BatchDone)
	assert.Equal(t, 1, v.Done)
	assert.Empty(t, v.Consent)
}

// Credentials that open findings are about, each once; those that are not in custody are not.
func TestChosenByFindings(t *testing.T) {
	y := newYard(t, 4)
	require.NoError(t, y.ReleaseCustody(t.Context(), y.ids[2]))
	var found []records.Finding
	for i, of := range []int{0, 0, 1, 2} {
		found = append(found, records.Finding{Key: fmt.Sprint("x/", i), Kind: "drift", Severity: "high", Subject: name(of), System: "dir", AccountID: records.AccountID(of + 1), What: "x", Next: "y"})
	}
	require.NoError(t, y.SetFindings(t.Context(), "x/", found))
	v := y.create(Ask{Findings: []string{"kind=drift"}})
	assert.Equal(t, 2, v.Total)
	assert.Equal(t, "findings: kind=drift", v.Chosen)
	_, err := y.Create(t.Context(), ines, Ask{Findings: []string{"kind=nothing"}, Reason: "x"})
	require.Error(t, err)
	ask := Ask{Findings: []string{"colour=blue"}, Reason: "x"}
	ask.Wish.OnFailure = rotation.UndoOnFailure
	_, err = y.Create(t.Context(), ines, ask)
	require.Error(t, err)
	assert.False(t, errors.Is(err, app.ErrNotFound))
}

// What no rotation took is forgotten after a week, with a batch that was never started.
func TestGivenValuesAreForgotten(t *testing.T) {
	y := newYard(t, 1)
	text, values := list(1)
	y.create(Ask{Values: secret.New(text)})
	of := y.base.Fingerprints.Of(secret.New(values[0]))
	n, err := y.ForgetGiven(t.Context(), time.Now().Add(-time.Minute))
	require.NoError(t, err)
	assert.Zero(t, n)
	given, err := y.GivenValue(t.Context(), y.ids[0], of)
	require.NoError(t, err)
	opened, err := y.base.Sealer.Open(given.Binding(), given.Sealed)
	require.NoError(t, err)
	assert.Equal(t, values[0], opened.RevealString())
	n, err = y.ForgetGiven(t.Context(), time.Now().Add(time.Minute))
	require.NoError(t, err)
	assert.EqualValues(t, 1, n)
}
