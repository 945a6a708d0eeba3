package naming

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestParse(t *testing.T) {
	for text, want := range map[string]Reference{
		"svc-berth":                       {Form: FormName, Name: "svc-berth"},
		" SVC-Berth ":                     {Form: FormName, Name: "svc-berth"},
		`LARKMOOR\svc-berth`:              {Form: FormDomain, Name: "svc-berth", Domain: "larkmoor"},
		`.\svc-berth`:                     {Form: FormLocal, Name: "svc-berth"},
		"svc-berth@larkmoor.example":      {Form: FormPrincipal, Name: "svc-berth", Domain: "larkmoor.example"},
		"1001":                            {Form: FormUID, Name: "1001", Written: "1001"},
		"007":                             {Form: FormUID, Name: "7", Written: "007"},
		"0":                               {Form: FormUID, Name: "0", Written: "0"},
		"S-1-5-21-1-2-3-1104":             {Form: FormSID, Name: "S-1-5-21-1-2-3-1104"},
		"LocalSystem":                     {Form: FormBuiltIn, Name: "localsystem"},
		`NT AUTHORITY\NetworkService`:     {Form: FormBuiltIn, Name: `nt authority\networkservice`},
		"gmsa-tide$":                      {Form: FormName, Name: "gmsa-tide$"},
		"CN=svc,OU=A,DC=b":                {Form: FormDN, DN: "cn=svc,ou=a,dc=b"},
		`CN = Kern\, Odile , DC=larkmoor`: {Form: FormDN, DN: `cn=kern\, odile,dc=larkmoor`},
		`CN=Kern\2c Odile,DC=larkmoor`:    {Form: FormDN, DN: `cn=kern\, odile,dc=larkmoor`},
		`uid=søren+cn=x;dc=é`:             {Form: FormDN, DN: `cn=x+uid=søren,dc=é`},
		`CN="Kern, Odile" , DC=larkmoor`:  {Form: FormDN, DN: `cn=kern\, odile,dc=larkmoor`},
		`CN="Kern \"O\" Odile",DC=b`:      {Form: FormDN, DN: `cn=kern \"o\" odile,dc=b`},
		"CN=Kern  O,DC=b":                 {Form: FormDN, DN: "cn=kern o,dc=b"},
		"commonName=a,OID.2.5.4.11=B":     {Form: FormDN, DN: "cn=a,ou=b"},
		"Odile\u0301":                     {Form: FormName, Name: "odil\u00e9"},
		"ＳＶＣ－Straße":                      {Form: FormName, Name: "svc-strasse"},
	} {
		ref, err := Parse(text)
		require.NoError(t, err, text)
		want.Text = strings.TrimSpace(text)
		assert.Equal(t, want, ref, text)
	}
	for _, bad := range []string{"", "  ", "a\nb", "@x", "x@", `a\`, `a\b\c`, "CN=", "=x", "CN=a,,DC=b", `CN=a\`, `CN="a,DC=b`, `CN="a"b,DC=b`, "CN=a,DC", "\xff\xfe", strings.Repeat("x", MaxLength+1)} {
		_, err := Parse(bad)
		if bad == "CN=" {
			continue // an empty value is allowed (RFC 4514)
		}
		assert.ErrorIs(t, err, ErrBadReference, "%q", bad)
	}
}

var larkmoor = NewIndex([]Known{
	{ID: "1", System: "dir", Name: "svc-berth", UPN: "svc-berth@larkmoor.example", DN: "CN=svc-berth,DC=larkmoor,DC=example", SID: "S-1-5-21-1-2-3-1104", Domains: []string{"LARKMOOR", "larkmoor.example"}},
	{ID: "2", System: "dir", Name: "svc-fuel", DN: "CN=svc-fuel,DC=larkmoor,DC=example", Domains: []string{"LARKMOOR", "larkmoor.example"}},
	{ID: "3", System: "h1", Host: true, Name: "svc-fuel", UID: "1001"},
	{ID: "4", System: "h2", Host: true, Name: "svc-fuel", UID: "1001"},
	{ID: "6", System: "dir", Name: "10023", DN: "CN=10023,DC=larkmoor,DC=example", Domains: []string{"LARKMOOR", "larkmoor.example"}},
	{ID: "7", System: "h1", Host: true, Name: "tide", UID: "1002"},
	{ID: "8", System: "dir", Name: "1002", DN: "CN=1002,DC=larkmoor,DC=example", Domains: []string{"LARKMOOR", "larkmoor.example"}},
	{ID: "5", System: "old", Name: "svc-berth", DN: "uid=svc-berth,dc=old", Domains: []string{"old"}},
})

func TestResolve(t *testing.T) {
	h1, dir := Context{System: "h1", Host: true}, Context{System: "dir"}
	for _, c := range []struct {
		text    string
		context Context
		state   State
		ids     string
	}{
		{`LARKMOOR\svc-berth`, h1, Resolved, "1"},
		{"svc-berth@larkmoor.example", h1, Resolved, "1"},
		{"SVC-BERTH@LARKMOOR.EXAMPLE", h1, Resolved, "1"},
		{"svc-fuel@larkmoor.example", h1, Resolved, "2"}, // the implicit principal name
		{"cn=SVC-BERTH, dc=larkmoor,dc=EXAMPLE", h1, Resolved, "1"},
		{"S-1-5-21-1-2-3-1104", dir, Resolved, "1"},
		{"svc-berth", h1, Ambiguous, "1 5"}, // two directories know it
		{"svc-fuel", h1, Resolved, "3"},     // the host's own account is asked first
		{"svc-fuel", Context{System: "h3", Host: true}, Resolved, "2"},
		{"svc-fuel", Context{}, Ambiguous, "2 3 4"}, // a person typed it
		{`.\svc-fuel`, h1, Resolved, "3"},
		{"1001", h1, Resolved, "3"},
		{"1001", Context{}, Ambiguous, "3 4"},
		{"10023", dir, Resolved, "6"},
		{"10023", h1, Resolved, "6"}, // no such uid there
		{"1002", h1, Resolved, "7"},  // a uid before a name
		{"1002", Context{System: "h1", Host: true, Copy: true}, Resolved, "8"},
		{"1002", Context{}, Ambiguous, "7 8"},
		{"0010023", dir, Unknown, ""},
		{`OTHER\svc-berth`, h1, Unknown, ""},
		{"svc-gone", h1, Unknown, ""},
		{"LocalSystem", h1, BuiltIn, ""},
		{"a\nb", h1, Unknown, ""},
	} {
		res, err := Resolve(c.text, c.context, larkmoor)
		require.NoError(t, err)
		var ids []string
		for _, k := range res.Accounts {
			ids = append(ids, k.ID)
		}
		assert.Equal(t, c.state, res.State, c.text)
		assert.Equal(t, c.ids, strings.Join(ids, " "), c.text)
		assert.NotEmpty(t, res.Why)
	}
}

func FuzzNormalDN(f *testing.F) {
	for _, seed := range []string{"CN=a,DC=b", "cn=a b,DC=c", "cn=a ,dc=b", "cn= a", "cn=#a", "cn=a#", "cn=,dc=b", "cn=a,", "cn=", "cn", `CN=a\,b+x=\23`, "dc= x ;dc=y", `cn=\ff`, "=", `a=\`} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		normal, err := NormalDN(text)
		if err != nil {
			return
		}
		parsed, err := parsedDN(text)
		require.NoError(t, err)
		require.Equal(t, parsed, normal, "the short way gives the same")
		again, err := NormalDN(normal)
		require.NoError(t, err, "%q gives %q", text, normal)
		require.Equal(t, normal, again, "a normal form is its own normal form")
	})
}

func FuzzParse(f *testing.F) {
	for _, seed := range []string{"svc", `D\n`, "a@b", "S-1-5-1", "12", `.\x`, "CN=x"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if ref, err := Parse(text); err == nil && ref.Name == "" && ref.DN == "" && ref.Form != FormDN {
			t.Errorf("%q parses as %+v, which names nobody", text, ref)
		}
		_, _ = Resolve(text, Context{System: "h1", Host: true}, larkmoor)
	})
}

func TestIdentityOf(t *testing.T) {
	for text, want := range map[string]string{
		"LocalSystem": "built-in", `NT AUTHORITY\NetworkService`: "built-in", "S-1-5-18": "built-in", "root": "built-in", "0": "built-in",
		`NT SERVICE\TideDisplay`: "virtual", `iis apppool\DefaultAppPool`: "virtual",
		`LARKMOOR\gmsa-lockers$`: "managed", "gmsa-lockers$@larkmoor.example": "managed",
		`LARKMOOR\svc-berth`: "named", "svc-berth@larkmoor.example": "named", `.\svc-local`: "named", "S-1-5-21-1-2-3-1104": "named", "svc": "named", "": "",
	} {
		assert.Equal(t, want, string(IdentityOf(text)), text)
	}
	for _, text := range []string{`NT SERVICE\x`, `IIS APPPOOL\x`, "S-1-5-20"} {
		res, err := Resolve(text, Context{System: "h1", Host: true}, larkmoor)
		require.NoError(t, err)
		assert.Equal(t, BuiltIn, res.State, text)
	}
}

// TestHostNames: a windows host's own name stands before its local accounts.
func TestHostNames(t *testing.T) {
	index := NewIndex([]Known{
		{ID: "1", System: "north1", Host: true, Name: "svc-local", SID: "S-1-5-21-9-9-9-1001", Domains: []string{"NORTH1"}},
		{ID: "2", System: "skerry1", Host: true, Name: "svc-local", SID: "S-1-5-21-8-8-8-1001", Domains: []string{"SKERRY1"}},
		{ID: "3", System: "dir", Name: "svc-local", Domains: []string{"LARKMOOR"}},
	})
	for text, want := range map[string]string{`NORTH1\svc-local`: "1", `skerry1\SVC-LOCAL`: "2", `LARKMOOR\svc-local`: "3", `.\svc-local`: "1", "svc-local": "1", "S-1-5-21-8-8-8-1001": "2"} {
		res, err := Resolve(text, Context{System: "north1", Host: true}, index)
		require.NoError(t, err)
		require.Equal(t, Resolved, res.State, text)
		assert.Equal(t, want, res.Accounts[0].ID, text)
	}
}

func TestPlainNamesAreTheRule(t *testing.T) {
	for _, text := range []string{"CN=svc-berth,OU=Service Accounts,DC=larkmoor,DC=example", "uid=person000123,ou=people,dc=larkmoor,dc=example"} {
		assert.True(t, plainDN(text), text)
	}
	for _, text := range []string{"", "cn", "cn=", "cn=,dc=b", "cn=a,", "cn=a b ,dc=c", "cn=a  b", "cn=#a", `cn=a\,b`, `cn="a"`, "cn=a+uid=b", "commonName=a", "cn=é", "cn=a=b", "Cn=a"} {
		normal, err := NormalDN(text)
		parsed, parsedErr := parsedDN(text)
		assert.Equal(t, parsedErr == nil, err == nil, text)
		assert.Equal(t, parsed, normal, text)
	}
}
