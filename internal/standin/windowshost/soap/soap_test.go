package soap

import (
	"encoding/xml"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/standin/windowshost/wql"
)

const class = Management + "root/cimv2/Win32_Berth"

// parsed is an instance as a parser that nobody here wrote reads it.
func parsed(t *testing.T, fields []wql.Field) *Element {
	t.Helper()
	text := "<s:Envelope" + Prefixes + ">" + Instance(wql.NewRecord("Win32_Berth", []string{"Name"}, fields), "p", class) + "</s:Envelope>"
	var envelope Element
	require.NoError(t, xml.Unmarshal([]byte(text), &envelope), text)
	instance := envelope.Child("Win32_Berth")
	require.NotNil(t, instance)
	assert.Equal(t, class, instance.XMLName.Space)
	assert.Equal(t, "p:Win32_Berth_Type", instance.Attribute("type"))
	return instance
}

// Values of every kind are read back as they were, whatever stands in them.
func TestInstancesAsOthersReadThem(t *testing.T) {
	at := time.Date(2026, 11, 28, 2, 30, 0, 0, time.UTC)
	principal := wql.NewRecord("MSFT_TaskPrincipal2", nil, []wql.Field{{"UserId", `LARKMOOR\svc`}, {"LogonType", 1}})
	i := parsed(t, []wql.Field{
		{"Name", "a <b> & \"c\" 'd' é 🦪"},
		{"Empty", ""},
		{"Nothing", nil},
		{"Number", 42},
		{"Yes", true},
		{"When", at},
		{"Never", time.Time{}},
		{"List", []string{"one", "t<wo"}},
		{"None", []string{}},
		{"Principal", principal},
		{"Several", []wql.Record{principal, principal}},
	})
	assert.Equal(t, "a <b> & \"c\" 'd' é 🦪", i.Text("Name"))
	assert.Equal(t, "42", i.Text("Number"))
	assert.Equal(t, "true", i.Text("Yes"))
	assert.Equal(t, "2026-11-28T02:30:00Z", i.Child("When").Text("Datetime"))
	for _, absent := range []string{"Nothing", "Never", "None"} {
		require.NotNil(t, i.Child(absent), absent)
		assert.Equal(t, "true", i.Child(absent).Attribute("nil"), absent)
	}
	assert.Empty(t, i.Child("Empty").Attribute("nil"), "empty is not absent")
	assert.Nil(t, i.Child("Missing"))
	assert.Empty(t, i.Text("Missing"))
	p := i.Child("Principal")
	assert.Equal(t, `LARKMOOR\svc`, p.Text("UserId"))
	assert.True(t, strings.HasSuffix(p.Attribute("type"), ":MSFT_TaskPrincipal2_Type"), "an embedded instance says of which class it is")
	assert.Equal(t, Management+"root/cimv2/MSFT_TaskPrincipal2", p.Child("UserId").XMLName.Space)
	lists := map[string]int{}
	for _, c := range i.Children {
		lists[c.XMLName.Local]++
	}
	assert.Equal(t, 2, lists["List"])
	assert.Equal(t, 2, lists["Several"])
}

// No text can end its element, or become another one.
func FuzzEscape(f *testing.F) {
	for _, seed := range []string{"", "plain", "</p:Name><p:Other>x", "]]>", "&amp;", "\x00\x07", "\xff\xfe", "a\r\nb\tc"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		i := parsed(t, []wql.Field{{"Name", text}, {"After", "it"}})
		require.Len(t, i.Children, 2)
		assert.Equal(t, "it", i.Text("After"))
	})
}
