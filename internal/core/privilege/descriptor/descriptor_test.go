package descriptor

import (
	"encoding/hex"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// That descriptors of a whole domain agree with another decoder, byte for byte, is shown in
// the lab (TestDirectoryRights); here is what no directory sends.

// made is a descriptor of: the owner S-1-5-21-1-2-3-512, one entry that denies Everyone to
// delete, one that lets S-1-5-21-1-2-3-1104 reset passwords of users below, and one of a
// kind that is not known.
const made = "0100 0480 14000000 00000000 00000000 30000000" +
	"0105 000000000005 15000000 01000000 02000000 03000000 00020000" +
	"0400 6c00 0300 0000" +
	"01 02 1400 00000100 0101 000000000001 00000000" +
	"05 0a 4800 00010000 03000000 70952900 6d24 d011 a768 00aa006e0529 ba7a96bf e60d d011 a285 00aa003049e2 0105 000000000005 15000000 01000000 02000000 03000000 50040000" +
	"7f 00 0800 aabbccdd"

func bytesOf(t testing.TB, text string) []byte {
	raw, err := hex.DecodeString(strings.ReplaceAll(text, " ", ""))
	require.NoError(t, err)
	return raw
}

func TestParse(t *testing.T) {
	raw := bytesOf(t, made)
	d, err := Parse(raw)
	require.NoError(t, err)
	assert.Equal(t, "S-1-5-21-1-2-3-512", d.Owner.String())
	assert.Nil(t, d.Group)
	require.Len(t, d.Rules.Entries, 3)
	var lines []string
	for _, e := range d.Rules.Entries {
		lines = append(lines, e.String())
	}
	assert.Equal(t, []string{
		"(D;CI;SD;;;S-1-1-0)", "(OA;CIIO;CR;00299570-246d-11d0-a768-00aa006e0529;bf967aba-0de6-11d0-a285-00aa003049e2;S-1-5-21-1-2-3-1104)", "(an entry of the kind 0x7f)",
	}, lines)
	assert.Equal(t, raw, d.Bytes())
	assert.True(t, d.Rules.Entries[0].Denies())
	assert.Equal(t, []string{VerbDelete}, d.Rules.Entries[0].VerbsOf(ClassGroup))
	assert.Empty(t, d.Rules.Entries[1].VerbsOf(ClassAccount), "it is for what is below")
	assert.False(t, d.Rules.Entries[2].Known())

	for cut := range raw { // of whatever ends too early nothing is believed
		if _, err := Parse(raw[:cut]); err == nil {
			t.Errorf("cut at %d it is still read", cut)
		}
	}
	for _, wrong := range []string{"0200" + made[4:], "0100 0400" + made[9:], strings.Replace(made, "14000000 00000000", "04000000 00000000", 1), strings.Replace(made, "0105 000000000005 15000000 01000000 02000000 03000000 00020000", "0205 000000000005 15000000 01000000 02000000 03000000 00020000", 1)} {
		_, err := Parse(bytesOf(t, wrong))
		assert.Error(t, err)
	}
	_, err = Parse(make([]byte, maxSize+1))
	assert.ErrorContains(t, err, "not read")
}

func TestVerbs(t *testing.T) {
	guid := func(text string) *GUID {
		var g GUID
		raw := bytesOf(t, strings.ReplaceAll(text, "-", ""))
		for i, from := range []int{3, 2, 1, 0, 5, 4, 7, 6, 8, 9, 10, 11, 12, 13, 14, 15} {
			g[i] = raw[from]
		}
		require.Equal(t, text, g.String())
		return &g
	}
	members, reset, restrictions := guid("bf9679c0-0de6-11d0-a285-00aa003049e2"), guid("00299570-246d-11d0-a768-00aa006e0529"), guid("4c164200-20c0-11d0-a768-00aa006e0529")
	for _, c := range []struct {
		entry Entry
		class Class
		want  []string
	}{
		{Entry{Mask: FullControl}, ClassAccount, []string{VerbEverything}},
		{Entry{Mask: GenericAll}, ClassDomain, []string{VerbEverything}},
		{Entry{Mask: GenericAll, Type: AllowObject, Object: members}, ClassGroup, []string{VerbWriteMembers, VerbAddItself}},
		{Entry{Mask: GenericWrite}, ClassGroup, []string{VerbWriteMembers, VerbAddItself}},
		{Entry{Mask: WriteProperty}, ClassAccount, []string{VerbWriteNames, VerbWriteControl, VerbWriteKeys, VerbWriteDelegation}},
		{Entry{Mask: WriteProperty, Type: AllowObject, Object: restrictions}, ClassAccount, []string{VerbWriteControl}},
		{Entry{Mask: ControlAccess, Type: AllowObject, Object: reset}, ClassAccount, []string{VerbResetPassword}},
		{Entry{Mask: ControlAccess, Type: AllowObject, Object: reset}, ClassGroup, nil},
		{Entry{Mask: ControlAccess}, ClassDomain, []string{VerbReplicateSecrets}},
		{Entry{Mask: CreateChild}, ClassUnit, []string{VerbCreateAccounts}},
		{Entry{Mask: WriteDACL | WriteOwner | Delete}, ClassUnit, []string{VerbChangeRules, VerbTakeOwnership, VerbDelete}},
		{Entry{Mask: FullControl, Flags: InheritOnly | ContainerInherit}, ClassUnit, nil},
		{Entry{Mask: FullControl, Type: Audit}, ClassUnit, nil},
		{Entry{Mask: 0x80000000}, ClassUnit, nil},
	} {
		assert.ElementsMatch(t, c.want, c.entry.VerbsOf(c.class), "%+v", c)
	}
	assert.Equal(t, "S-1-0x001234567890", SID{Authority: 0x1234567890}.String())
	assert.True(t, Entry{Type: 0x09, rest: []byte("artx")}.Conditional())
	assert.True(t, Anybody("S-1-5-11"))
	assert.Equal(t, "(A;;0x40000200;;;S-1-5)", Entry{Mask: 0x40000200, Trustee: SID{Authority: 5}}.String())
}

// Whatever arrives: nothing panics, and what was read is written as it was.
func FuzzParse(f *testing.F) {
	f.Add(bytesOf(f, made))
	f.Add(bytesOf(f, strings.Replace(made, "0480", "1480", 1)))
	f.Add([]byte{1, 0, 4, 128, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 20, 0, 0, 0, 2, 0, 8, 0, 0, 0, 0, 0})
	f.Fuzz(func(t *testing.T, raw []byte) {
		d, err := Parse(raw)
		if err != nil {
			return
		}
		require.Equal(t, raw, d.Bytes())
		if d.Rules != nil {
			for _, e := range d.Rules.Entries {
				_, _ = e.String(), e.VerbsOf(ClassAccount)
			}
		}
	})
}

func TestBuild(t *testing.T) {
	owner, err := ParseSID("S-1-5-21-1-2-3-512")
	require.NoError(t, err)
	reset, err := ParseGUID("00299570-246d-11d0-a768-00aa006e0529")
	require.NoError(t, err)
	raw := Build(owner, Entry{Type: AllowObject, Mask: ControlAccess, Object: &reset, Trustee: owner}, Entry{Mask: FullControl, Trustee: owner})
	d, err := Parse(raw)
	require.NoError(t, err)
	assert.Equal(t, raw, d.Bytes())
	assert.Equal(t, owner, *d.Owner)
	assert.Equal(t, []string{VerbResetPassword}, d.Rules.Entries[0].VerbsOf(ClassAccount))
	assert.Equal(t, []string{VerbEverything}, d.Rules.Entries[1].VerbsOf(ClassAccount))
	for _, text := range []string{"", "S-1", "S-2-5", "S-1-x", "S-1-5-x", "S-1-5-4294967296", "S-1-5" + strings.Repeat("-1", 16)} {
		_, err := ParseSID(text)
		assert.Error(t, err, text)
	}
	for _, text := range []string{"", "1-2-3-4-5", "0029957g-246d-11d0-a768-00aa006e0529"} {
		_, err := ParseGUID(text)
		assert.Error(t, err, text)
	}
}
