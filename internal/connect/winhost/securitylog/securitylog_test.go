package securitylog

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"mossledger.example/moss/internal/core/change"
)

// Events as hosts write them: their strings in order, with a dash for what there is not.
func TestRecordsOfEvents(t *testing.T) {
	signIn := func(name, domain, kind, address string) []string {
		return []string{"S-1-0-0", "-", "-", "0x0", "S-1-5-21-1-2-3-1105", name, domain, "0x3e8", kind, "NtLmSsp", "NTLM", "QUAY7", "{0}", "-", "NTLM V2", "128", "0x0", "-", address, "49152"}
	}
	by := func(target string) []string {
		return []string{target, "NORTH1", "S-1-5-21-1-2-3-1106", "S-1-5-21-1-2-3-1105", "odile", "LARKMOOR", "0x3e8"}
	}
	for name, v := range map[string]struct {
		code int
		list []string
		want change.Record
	}{
		"over the network":     {4624, signIn("odile", "LARKMOOR", "3", "192.0.2.40"), change.Record{Who: `LARKMOOR\odile`, From: "192.0.2.40", Act: change.SignedIn}},
		"at the console":       {4624, signIn("odile", "NORTH1", "2", "-"), change.Record{Who: `NORTH1\odile`, Act: change.SignedIn}},
		"a service of its own": {4624, signIn("svc-berth", "LARKMOOR", "5", "-"), change.Record{}},
		"a task":               {4624, signIn("svc-berth", "LARKMOOR", "4", "-"), change.Record{}},
		"a machine":            {4624, signIn("QUAY7$", "LARKMOOR", "3", "192.0.2.40"), change.Record{}},
		"the system":           {4624, signIn("SYSTEM", "NT AUTHORITY", "3", "-"), change.Record{}},
		"nobody":               {4624, signIn("ANONYMOUS LOGON", "NT AUTHORITY", "3", "192.0.2.40"), change.Record{}},
		"a screen":             {4624, signIn("DWM-1", "Window Manager", "2", "-"), change.Record{}},
		"made":                 {4720, by("svc-new"), change.Record{Who: `LARKMOOR\odile`, Act: change.Altered, Of: "svc-new"}},
		"a password":           {4724, by("svc-local"), change.Record{Who: `LARKMOOR\odile`, Act: change.SetPassword, Of: "svc-local"}},
		"its own password":     {4723, by("svc-local"), change.Record{Who: `LARKMOOR\odile`, Act: change.SetPassword, Of: "svc-local"}},
		"changed":              {4738, append([]string{"-"}, by("svc-local")...), change.Record{Who: `LARKMOOR\odile`, Act: change.Altered, Of: "svc-local"}},
		"nobody is named":      {4724, []string{"svc-local", "NORTH1", "S", "S", "-", "-"}, change.Record{}},
		"cut short":            {4738, []string{"-", "svc-local"}, change.Record{}},
		"another event":        {4634, by("svc-local"), change.Record{}},
	} {
		got, told := Read(v.code, v.list)
		assert.Equal(t, v.want.Act != "", told, name)
		if told {
			assert.Equal(t, v.want, got, name)
			assert.False(t, strings.HasSuffix(got.Who, "$"), name)
		}
	}
}
