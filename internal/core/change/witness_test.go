package change

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWitnesses(t *testing.T) {
	noon := time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)
	at := func(minutes int) time.Time { return noon.Add(time.Duration(minutes) * time.Minute) }
	signed := func(minutes int, who, from string) Record {
		return Record{At: at(minutes), Who: who, From: from, Act: SignedIn}
	}
	set := func(minutes int, who, of string) Record {
		return Record{At: at(minutes), Who: who, Act: SetPassword, Of: of}
	}
	for name, v := range map[string]struct {
		log   Log
		names []string
		words string
	}{
		"nobody":                    {Log{Since: at(-60)}, nil, "nobody signed in meanwhile, as far as the system's log tells"},
		"one":                       {Log{Since: at(-60), Records: []Record{signed(5, "odile", "192.0.2.7")}}, nil, "signed in meanwhile: odile from 192.0.2.7"},
		"often is once":             {Log{Since: at(-60), Records: []Record{signed(5, "odile", "192.0.2.7"), signed(6, "odile", "192.0.2.7"), signed(7, "jonas", "tty1")}}, nil, "signed in meanwhile: jonas from tty1, odile from 192.0.2.7"},
		"before and after":          {Log{Since: at(-60), Records: []Record{signed(-5, "odile", "x"), signed(35, "jonas", "x")}}, nil, "nobody signed in meanwhile, as far as the system's log tells"},
		"clocks a little apart":     {Log{Since: at(-60), Records: []Record{signed(-1, "odile", "x"), signed(31, "jonas", "x")}}, nil, "signed in meanwhile: jonas from x, odile from x"},
		"who did it comes first":    {Log{Since: at(-60), Records: []Record{signed(9, "jonas", "x"), set(5, "odile", "svc-berth")}}, []string{"svc-berth"}, "odile set its password at 2026-11-28 12:05:00; signed in meanwhile: jonas from x"},
		"in another spelling":       {Log{Since: at(-60), Sparse: true, Records: []Record{set(5, "cn=odile", "UID=svc-berth,OU=Services")}}, []string{"svc-berth", "uid=svc-berth,ou=services"}, "cn=odile set its password at 2026-11-28 12:05:00"},
		"to another account":        {Log{Since: at(-60), Records: []Record{set(5, "odile", "svc-tide")}}, []string{"svc-berth"}, "nobody signed in meanwhile, as far as the system's log tells"},
		"of what is no account":     {Log{Since: at(-60), Records: []Record{set(5, "odile", "svc-tide")}}, nil, "nobody signed in meanwhile, as far as the system's log tells"},
		"an account without a name": {Log{Since: at(-60), Records: []Record{set(5, "odile", "svc-tide"), {At: at(5), Who: "odile", Act: SetPassword}}}, []string{""}, "signed in meanwhile: odile"},
		"done, and not by whom":     {Log{Since: at(-60), Records: []Record{set(5, "", "svc-berth")}}, []string{"svc-berth"}, "somebody set its password at 2026-11-28 12:05:00"},
		"the log begins later":      {Log{Since: at(10), Records: []Record{signed(15, "odile", "x")}}, nil, "signed in meanwhile: odile from x; the log goes back to 2026-11-28 12:10:00 only"},
		"and says nothing":          {Log{Since: at(10)}, nil, "the log goes back to 2026-11-28 12:10:00 only"},
		"tells of no sign-ins":      {Log{Since: at(-60), Sparse: true}, []string{"svc-berth"}, ""},
	} {
		assert.Equal(t, v.words, v.log.Of(noon, at(30), v.names...).Words(), name)
	}
	assert.Nil(t, Log{}.Of(noon, at(30)), "no log was read")
	assert.Nil(t, Log{Since: noon}.Of(time.Time{}, at(30)), "it is not known since when")
	assert.Empty(t, (*Witnesses)(nil).Words())
}

func TestManyWitnesses(t *testing.T) {
	noon := time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)
	log := Log{Since: noon.Add(-time.Hour)}
	for i := range 40 {
		for range 3 {
			log.Records = append(log.Records, Record{At: noon.Add(time.Duration(i) * time.Second), Who: fmt.Sprintf("person%d", i), Act: SignedIn, From: "192.0.2.7"})
		}
	}
	log.Records = append(log.Records, Record{At: noon, Who: "odile", Act: Altered, Of: "svc-berth"})
	w := log.Of(noon, noon.Add(time.Hour), "svc-berth")
	require.Len(t, w.List, mostWitnesses)
	assert.Equal(t, 41-mostWitnesses, w.More, "the others are counted")
	assert.Equal(t, "odile", w.List[0].Who)
	assert.Equal(t, "person39", w.List[1].Who, "the latest first")
	assert.Equal(t, 3, w.List[1].Count)
	assert.Contains(t, w.Words(), fmt.Sprintf(" and %d more", 41-mostWitnesses))
}
