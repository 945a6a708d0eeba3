package expiry

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/estate"
)

var today = time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)

func TestPartsOfTheTimeline(t *testing.T) {
	for name, c := range map[string]struct {
		end  End
		part Part
		left string
	}{
		"never":               {End{State: Never}, PartNever, "never ends"},
		"not known":           {End{State: Unknown, Why: "nobody may ask"}, PartUnknown, "end not known"},
		"nothing said":        {End{}, PartUnknown, "end not known"},
		"refused":             {End{State: Ended}, PartPast, "has ended"},
		"now":                 {At(today), PartPast, "ended less than a minute ago"},
		"long ago":            {At(today.AddDate(-1, 0, 0)), PartPast, "ended 365 days ago"},
		"before 1970":         {At(time.Date(1960, 1, 1, 0, 0, 0, 0, time.UTC)), PartPast, "ended 24166 days ago"},
		"in a second":         {At(today.Add(time.Second)), PartWeek, "ends in less than a minute"},
		"in a minute":         {At(today.Add(time.Minute)), PartWeek, "ends in 1 minute"},
		"in an hour and half": {At(today.Add(90 * time.Minute)), PartWeek, "ends in 90 minutes"},
		"in 47 hours":         {At(today.Add(47 * time.Hour)), PartWeek, "ends in 47 hours"},
		"in 7 days":           {At(today.Add(7 * Day)), PartWeek, "ends in 7 days"},
		"a second later":      {At(today.Add(7*Day + time.Second)), PartMonth, "ends in 7 days"},
		"in 30 days":          {At(today.Add(30 * Day)), PartMonth, "ends in 30 days"},
		"in 90 days":          {At(today.Add(90 * Day)), PartQuarter, "ends in 90 days"},
		"in 91 days":          {At(today.Add(91 * Day)), PartLater, "ends in 91 days"},
		"in 173 years":        {At(time.Date(2199, 12, 31, 23, 59, 59, 0, time.UTC)), PartLater, "ends in 63492 days"},
		"in 174 years":        {At(time.Date(2200, 1, 1, 0, 0, 0, 0, time.UTC)), PartNever, "never ends"},
		"the zero time":       {At(time.Time{}), PartUnknown, "end not known"},
	} {
		assert.Equal(t, c.part, c.end.Part(today), name)
		assert.Equal(t, c.left, c.end.Left(today), name)
	}
}

// Time brings an end nearer and never further away.
func TestEndsOnlyComeNearer(t *testing.T) {
	order := map[Part]int{}
	for i, p := range Parts() {
		order[p] = i
	}
	r := rand.New(rand.NewPCG(16, 4))
	for range 2000 {
		end := At(today.Add(time.Duration(r.Int64N(int64(400 * Day)))))
		before := today.Add(time.Duration(r.Int64N(int64(200 * Day))))
		after := before.Add(time.Duration(r.Int64N(int64(200 * Day))))
		assert.LessOrEqual(t, order[end.Part(after)], order[end.Part(before)], "%s at %s and at %s", end, before, after)
	}
}

func TestEndsAreOneToTheSecond(t *testing.T) {
	at := today.Add(123 * time.Millisecond)
	assert.True(t, At(at).Same(At(today)))
	assert.True(t, At(at.In(time.FixedZone("", 5*3600+1800))).Same(At(today)), "whatever the zone")
	assert.False(t, At(today).Same(At(today.Add(time.Second))))
	assert.False(t, End{State: Never}.Same(End{State: Unknown}))
	assert.True(t, End{State: Ended, Why: "a"}.Same(End{State: Ended, Why: "b"}))
	assert.Equal(t, "2026-03-01T12:00:00Z", At(at).String())
	assert.Equal(t, "unknown: nobody may ask", End{State: Unknown, Why: "nobody may ask"}.String())
	assert.Equal(t, "never", End{State: Never}.String())
}

func TestChangesThatSayNothing(t *testing.T) {
	good := EndChange{Act: SetEnd, Of: Account, Name: "svc-berth", End: At(today.Add(time.Hour))}
	require.NoError(t, good.Check(today))
	for words, c := range map[string]EndChange{
		`"pray" is no act`:    {Act: "pray", Of: Account},
		`"wish" is nothing`:   {Act: Expire, Of: "wish"},
		"no end is given":     {Act: SetEnd, Of: Account},
		"2026-03-01T12:00:00": {Act: Extend, Of: Account, End: At(today)},
	} {
		require.ErrorContains(t, c.Check(today), words)
	}
	require.ErrorContains(t, EndChange{Act: SetEnd, Of: Role, End: End{State: Unknown}}.Check(today), "no end is given")
	require.NoError(t, EndChange{Act: Delete, Of: Key, End: At(today.AddDate(-1, 0, 0))}.Check(today), "it takes none")
}

func TestWordsOfChanges(t *testing.T) {
	until := At(today.Add(time.Hour))
	entry := EndChange{Of: Key, Name: "tide", Fingerprint: "SHA256:x", Path: "/home/tide/.ssh/authorized_keys"}
	key := EndChange{Of: Key, Name: "kiosktimes", KeyID: "3fQx"}
	of := func(c EndChange, act Act, end End) EndChange { c.Act, c.End = act, end; return c }
	account, role, password := EndChange{Of: Account, Name: "svc"}, EndChange{Of: Role, Name: "svc"}, EndChange{Of: Password, Name: "svc"}
	for _, c := range []struct {
		change      EndChange
		words, back string
	}{
		{of(account, SetEnd, until), "have the account svc end at 2026-03-01T13:00:00Z", "give the account svc the end back that it had"},
		{of(role, Extend, until), "extend the role svc until 2026-03-01T13:00:00Z", "give the role svc the end back that it had"},
		{of(password, Extend, End{State: Never}), "have the password of svc never end", "give the password of svc the end back that it had"},
		{of(password, Expire, End{}), "have the password of svc end now", "give the password of svc the end back that it had"},
		{of(entry, Disable, End{}), "disable the entry of the key SHA256:x in /home/tide/.ssh/authorized_keys", "enable the entry of the key SHA256:x in /home/tide/.ssh/authorized_keys again"},
		{of(key, Enable, End{}), "enable the key 3fQx of kiosktimes", "disable the key 3fQx of kiosktimes again"},
		{of(key, Delete, End{}), "delete the key 3fQx of kiosktimes", "bring the key 3fQx of kiosktimes back"},
	} {
		assert.Equal(t, c.words, c.change.Words())
		assert.Equal(t, c.back, c.change.BackWords())
	}
	for _, act := range Acts() {
		assert.Equal(t, act == Expire || act == Disable || act == Delete, act.Takes(), act)
	}
}

func TestChoose(t *testing.T) {
	possible := []Possible{{SetEnd, Account, "accountExpires"}, {Expire, Account, ""}, {Expire, Password, "pwdLastSet"}}
	p, err := Choose(possible, Expire, "")
	require.NoError(t, err)
	assert.Equal(t, Account, p.Of, "the first that is offered")
	p, err = Choose(possible, Expire, Password)
	require.NoError(t, err)
	assert.Equal(t, "pwdLastSet", p.How)
	_, err = Choose(possible, Expire, Key)
	require.EqualError(t, err, "'expire' there is about the account or the password, not the key")
	_, err = Choose(possible, Delete, "")
	require.EqualError(t, err, "'delete' is not offered there: what is, is set-end, expire")
	_, err = Choose(nil, Delete, "")
	require.EqualError(t, err, "'delete' is not offered there: nothing about ends is")
}

func TestWaysOfUsing(t *testing.T) {
	for kind, way := range map[estate.DependentKind]Way{
		estate.DependentFile: SignsIn, estate.DependentUnit: RunsUnit, estate.DependentCron: RunsJob,
		estate.DependentKey: OpensKey, estate.DependentAuthorized: OpensKey, estate.DependentCloudKey: OpensKey, estate.DependentIssued: OpensKey,
	} {
		assert.Equal(t, way, WayOf(kind), kind)
	}
	sights := []Sight{{Way: SignsIn, Words: "data 701"}}
	s, found := Seen(sights, SignsIn)
	assert.True(t, found)
	assert.Equal(t, "data 701", s.Words)
	_, found = Seen(sights, RunsJob)
	assert.False(t, found)
}
