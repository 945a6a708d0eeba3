package wql

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestQueries(t *testing.T) {
	r := NewRecord("Win32_Service", []string{"Name"}, []Field{
		{"Name", "KioskAgent"},
		{"StartName", `LARKMOOR\svc-berth`},
		{"ProcessId", 560},
		{"Started", true},
		{"PathName", `"C:\Program Files\Kiosk\agent.exe" --port 80`},
		{"Nothing", nil},
		{"When", time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC)},
		{"Of", NewReference("Win32_Service", [][2]string{{"Name", "Rpc"}})},
	})
	for _, c := range []struct {
		where string
		want  bool
	}{
		{"", true},
		// texts compare without case
		{"Name = 'kioskagent'", true},
		{"Name = \"KioskAgent\"", true},
		{"Name <> 'KioskAgent'", false},
		{"Name != 'other'", true},
		// so do properties
		{"name = 'KioskAgent'", true},
		{"ProcessId = 560", true},
		// as numbers, not as texts
		{"ProcessId > 99", true},
		{"ProcessId >= 560 and ProcessId <= 560", true},
		{"ProcessId = 'x'", false},
		{"Started = TRUE", true},
		{"Started = FALSE", false},
		{"Name like 'Kiosk%'", true},
		{"Name like '%AGENT'", true},
		{"Name like 'Kiosk_gent'", true},
		{"Name like 'Kiosk'", false},
		// a dot is a dot
		{"PathName like '%.exe%'", true},
		{"PathName like '%axexe%'", false},
		{"Nothing is null", true},
		{"Name is not null", true},
		{"Missing is null", true},
		// null compares with nothing
		{"Nothing = ''", false},
		{"not Name = 'x'", true},
		{"not (Name = 'KioskAgent' or ProcessId = 1)", false},
		{"Name = 'x' or ProcessId = 560 and Started = TRUE", true},
		// and binds closer than or
		{"(Name = 'x' or ProcessId = 560) and Started = FALSE", false},
		// a backslash keeps the next character
		{`StartName = 'LARKMOOR\\svc-berth'`, true},
		{`StartName = 'LARKMOOR\svc-berth'`, false},
		{"When > '20260228'", true},
		{"When < '20260301080000.000000-000'", false},
		{"Of = 'Win32_Service.Name=\"Rpc\"'", true},
	} {
		text := "SELECT * FROM Win32_Service"
		if c.where != "" {
			text += " WHERE " + c.where
		}
		q, err := ParseQuery(text)
		require.NoError(t, err, c.where)
		assert.Equal(t, "Win32_Service", q.Class)
		assert.Equal(t, c.want, q.Where(r), c.where)
	}
	for _, text := range []string{
		"", "select", "select Name from X", "select * from X where", "select * from X where Name", "select * from X where Name =", "select * from X where Name = 'open", "select * from X where (Name = 'a'",
		"select * from X where Name is", "select * from X where = 'a'", "select * from X order by Name", "delete from X", "select * from X where Name = 'a' Name = 'b'",
	} {
		_, err := ParseQuery(text)
		assert.Error(t, err, text)
	}
	q, err := ParseQuery("select * from X where A = 1 or not B is null")
	require.NoError(t, err)
	assert.Equal(t, []string{"A", "B"}, q.Names)
}

func FuzzParseQuery(f *testing.F) {
	f.Add("select * from X where A like '%' and (B = -1 or not C is null)")
	f.Add("select * from X where A <= '\\")
	f.Fuzz(func(_ *testing.T, text string) {
		if q, err := ParseQuery(text); err == nil {
			q.Where(NewRecord("X", nil, []Field{{"A", "a"}, {"B", 1}, {"C", nil}, {"D", time.Unix(0, 0)}, {"E", true}}))
		}
	})
}
