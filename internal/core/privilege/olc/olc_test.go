package olc

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestParse(t *testing.T) {
	r, err := Parse("{1}to dn.children=\"ou=services,dc=x\"  attrs=userPassword,pwdReset\n  by dn.exact=\"uid=m,dc=x\" write by self write by anonymous auth by * none")
	require.NoError(t, err)
	assert.Equal(t, "children", r.Style)
	assert.Equal(t, "ou=services,dc=x", r.DN)
	assert.Equal(t, []string{"userpassword", "pwdreset"}, r.Attrs)
	require.Len(t, r.By, 4)
	assert.Equal(t, Who{Kind: "dn", Style: "exact", DN: "uid=m,dc=x"}, r.By[0].Who)
	assert.True(t, r.By[0].Writes)
	assert.False(t, r.By[2].Writes)
	for text, unsure := range map[string]string{
		"to dn.regex=\"x\" by * read": "it depends on dn.regex", "to filter=(a=b) by * read": "filter", "to attrs=member val=\"x\" by * read": "val=", "to attrs=@person by * read": "attrs=@person",
	} {
		r, err := Parse(text)
		require.NoError(t, err, text)
		assert.Contains(t, r.Unsure, unsure, text)
	}
	for text, unsure := range map[string]string{
		"to * by peername.ip=192.0.2.1 write": "peername", "to * by users ssf=128 write": "ssf=128", "to * by dn.regex=x write": "dn.regex", "to * by group/organizationalRole/roleOccupant=\"cn=a\" write": "group/organizationalRole", "to * by users selfwrite": "itself", "to * by users read continue": "continue",
	} {
		r, err := Parse(text)
		require.NoError(t, err, text)
		assert.Contains(t, r.By[0].Unsure, unsure, text)
	}
	for _, text := range []string{"", "by * read", "to * by", "to dn=\"x by * read"} {
		_, err := Parse(text)
		assert.Error(t, err, text)
	}
	for level, writes := range map[string]bool{"write": true, "manage": true, "=w": true, "=rscxd": false, "add": false, "delete": false, "read": false, "": false} {
		r, err := Parse("to * by users " + level)
		require.NoError(t, err)
		assert.Equal(t, writes, r.By[0].Writes, level)
	}
}

func TestOf(t *testing.T) {
	rules := func(lines ...string) (out []Rule) {
		for _, l := range lines {
			r, err := Parse(l)
			require.NoError(t, err)
			out = append(out, r)
		}
		return out
	}
	say := func(list []Given) string {
		var out []string
		for _, g := range list {
			out = append(out, fmt.Sprintf("%d %s %v %s", g.Rule, g.Who.Kind, g.Writes, g.Unsure))
		}
		return strings.Join(out, "; ")
	}
	const dn = "cn=a,ou=b,dc=x"
	for want, list := range map[string][]Rule{
		"0 users true ":                         rules("to * by users write by * none"),
		"1 dn true ":                            rules("to dn.subtree=\"ou=c,dc=x\" by * none", "to dn.one=\"ou=b,dc=x\" attrs=member by dn.exact=\"x\" write"),
		"0 dn false ; 1 any true ":              rules("to * by dn.exact=\"x\" read by * break", "to * by * write"),
		"":                                      rules("to attrs=cn by * write"),
		"0 any true it depends on filter=(a=b)": rules("to filter=(a=b) by * none", "to * by * write"),
		"0 users true several rules decide together": rules("to * by users +w break by * none", "to * by * write"),
		"0 group true ; 0 any false ":                rules("to dn.children=\"dc=x\" by group=\"cn=g\" write by * read", "to * by * write"),
	} {
		assert.Equal(t, want, say(Of(list, dn, "member", strings.ToLower)))
	}
	assert.False(t, Within("cn=a,ou=b,dc=x", "one", "dc=x"))
	assert.True(t, Within(`cn=a\,b,dc=x`, "one", "dc=x"))
	assert.True(t, Within("dc=x", "subtree", "dc=x"))
	assert.False(t, Within("dc=x", "children", "dc=x"))
}

// Whatever stands in a rule, reading it ends, and what is not understood gives nothing for sure.
func FuzzParse(f *testing.F) {
	for _, text := range []string{"{0}to * by users read", "to dn.subtree=\"dc=x\" attrs=a,b by group.exact=\"cn=g\" =w by * break", "to filter=(x) by self write stop"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		r, err := Parse(text)
		if err != nil {
			return
		}
		for _, g := range Of([]Rule{r}, "cn=a,dc=x", "member", strings.ToLower) {
			if g.Writes && g.Unsure == "" && !strings.Contains(text, "w") && !strings.Contains(text, "m") {
				t.Fatalf("%q gives a right to write", text)
			}
		}
	})
}
