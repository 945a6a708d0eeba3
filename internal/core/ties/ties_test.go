package ties

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/naming"
)

type known struct {
	doors map[string][]Door
	*naming.Index
	owners map[string][]Owner
}

func (k known) Owners(f string) ([]Owner, error)              { return k.owners[f], nil }
func (k known) Authorized(fingerprint string) ([]Door, error) { return k.doors[fingerprint], nil }
func (k known) Issued(keyID string) ([]Door, error)           { return k.doors["issued "+keyID], nil }

func (k known) InCustody(account string) (bool, error) { return account == "1" || account == "2", nil }

func TestDerive(t *testing.T) {
	k := known{Index: naming.NewIndex([]naming.Known{
		{ID: "1", System: "d", Name: "svc-berth", Domains: []string{"larkmoor"}},
		{ID: "2", System: "d", Name: "svc-tide", Domains: []string{"larkmoor"}},
		{ID: "3", System: "d", Name: "svc-free", Domains: []string{"larkmoor"}},
		{ID: "4", System: "h", Host: true, Name: "berth"},
		{ID: "5", System: "e", Name: "svc-berth", Domains: []string{"east"}},
	}), owners: map[string][]Owner{"f1": {{"1", true}}, "f2": {{"2", true}}, "both": {{"1", true}, {"2", true}}, "old1": {{"1", false}}}}
	file := func(fingerprint string, names ...string) estate.Dependent {
		return estate.Dependent{Kind: estate.DependentFile, Path: "/f", Copy: &estate.Copy{Fingerprint: fingerprint, Names: names, Key: "P", Line: 3}}
	}
	for name, c := range map[string]struct {
		d        estate.Dependent
		want     string
		unplaced int
	}{
		"runs as":                         {estate.Dependent{RunsAs: "berth"}, "4 configured runs as", 0},
		"runs as nobody known":            {estate.Dependent{RunsAs: "gone"}, "", 1},
		"runs as and reads a closed file": {estate.Dependent{RunsAs: "berth", Uses: []string{"/closed"}}, "4 configured runs as; 4 held unreadable", 0},
		"value and name agree":            {file("f1", `LARKMOOR\svc-berth`), "1 held matches", 0},
		"value alone":                     {file("f1"), "1 held matches", 0},
		"value of two, nobody named":      {file("both"), "1 held ambiguous; 2 held ambiguous", 0},
		"value of two, one named":         {file("both", `LARKMOOR\svc-tide`), "2 held matches", 0},
		"value of one beside another":     {file("f1", `LARKMOOR\svc-free`), "3 held beside; 1 held same value", 0},
		"named, another value":            {file("zzz", `LARKMOOR\svc-berth`), "1 held differs", 0},
		"named, not in custody":           {file("zzz", `LARKMOOR\svc-free`), "3 held beside", 0},
		"an earlier value":                {file("old1"), "1 held differs", 0},
		"ambiguous name, value decides":   {file("f1", "svc-berth"), "1 held matches", 0},
		"ambiguous name, value does not":  {file("zzz", "svc-berth"), "", 1},
		"nothing known":                   {file("zzz"), "", 0},
	} {
		list, unplaced, err := Derive(c.d, naming.Context{System: "h", Host: true}, k, map[string]bool{"/closed": true})
		require.NoError(t, err)
		var got []string
		for _, tie := range list {
			got = append(got, tie.Account+" "+string(tie.Evidence)+" "+string(tie.Strength))
			assert.NotEmpty(t, tie.Detail)
		}
		assert.Equal(t, c.want, strings.Join(got, "; "), name)
		assert.Len(t, unplaced, c.unplaced, name)
	}
}

// A private key is tied to every account that it opens, what names an account
// to that account, and what only mentions one weakly.
func TestKeysAndMentions(t *testing.T) {
	index := naming.NewIndex([]naming.Known{{ID: "1", System: "7", Host: true, Name: "svc-backup"}, {ID: "2", System: "d", Name: "svc-board", Domains: []string{"larkmoor.example"}}})
	k := known{Index: index, doors: map[string][]Door{"SHA256:x": {{"1", "opens svc-backup on quay1"}, {"1", "opens it twice"}, {"2", "opens svc-board on tide1"}}, "issued 3fQ": {{"2", "proves svc-board"}}}}
	context := naming.Context{System: "7", Host: true}
	for name, c := range map[string]struct {
		d    estate.Dependent
		want string
	}{
		"private key":     {estate.Dependent{Kind: estate.DependentKey, Path: "/k", Key: &estate.Key{Fingerprint: "SHA256:x"}}, "1 opens, 2 opens"},
		"unknown key":     {estate.Dependent{Kind: estate.DependentKey, Path: "/k", Key: &estate.Key{Fingerprint: "SHA256:y"}}, ""},
		"encrypted key":   {estate.Dependent{Kind: estate.DependentKey, Path: "/k", Key: &estate.Key{Encrypted: true}}, ""},
		"entry":           {estate.Dependent{Kind: estate.DependentAuthorized, Key: &estate.Key{Lets: "svc-backup"}}, "1 authorizes"},
		"key file":        {estate.Dependent{Kind: estate.DependentCloudKey, Path: "/k", Key: &estate.Key{KeyID: "3fQ"}}, "2 opens"},
		"strange file":    {estate.Dependent{Kind: estate.DependentCloudKey, Path: "/k", Key: &estate.Key{KeyID: "4"}}, ""},
		"issued key":      {estate.Dependent{Kind: estate.DependentIssued, Key: &estate.Key{KeyID: "3fQ", Lets: "x", Principal: "svc-board@larkmoor.example"}}, "2 authorizes"},
		"entry of nobody": {estate.Dependent{Kind: estate.DependentAuthorized, Key: &estate.Key{}}, ""},
		"key tab":         {estate.Dependent{Kind: estate.DependentKeytab, Key: &estate.Key{Principal: "svc-board@LARKMOOR.EXAMPLE"}}, "2 beside"},
		"mention":         {estate.Dependent{Kind: estate.DependentFile, Copy: &estate.Copy{Format: estate.FormatMention, Names: []string{"svc-board", "nobody-else"}}}, "2 mentions"},
	} {
		list, unplaced, err := Derive(c.d, context, k, nil)
		require.NoError(t, err, name)
		assert.Empty(t, unplaced, name)
		var got []string
		for _, tie := range list {
			got = append(got, tie.Account+" "+string(tie.Strength))
		}
		assert.Equal(t, c.want, strings.Join(got, ", "), name)
	}
}
