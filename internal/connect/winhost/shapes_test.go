package winhost

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"mossledger.example/moss/internal/connect/wsman"
)

// A task that gets a managed account keeps what else its principal says, and what was read
// stays as it was read: it may be given back.
func TestPrincipalOfAManagedAccount(t *testing.T) {
	field := func(name, text string) *wsman.Node { return &wsman.Node{Local: name, Content: text} }
	present := &wsman.Node{Local: "Principal", Children: []*wsman.Node{field("Id", "Author"), field("RunLevel", "1"), field("UserId", "svc-local"), field("LogonType", "6")}}
	resource, method, input, principal := principalMethod(`\Berth\`, "Nightly", `LARKMOOR\gmsa-tide$`, present)
	assert.Contains(t, resource.URI, "/PS_ScheduledTask")
	assert.Equal(t, "SetByPrincipal", method)
	assert.Equal(t, []wsman.Pair{{Name: "TaskName", Value: "Nightly"}, {Name: "TaskPath", Value: `\Berth\`}}, input, "and no password")
	assert.Equal(t, "Principal", principal.Name)
	for name, want := range map[string]string{"Id": "Author", "RunLevel": "1", "UserId": `LARKMOOR\gmsa-tide$`, "LogonType": "1"} {
		assert.Equal(t, want, principal.Instance.Text(name), name)
	}
	assert.Equal(t, "svc-local", present.Text("UserId"))
	assert.Equal(t, "6", present.Text("LogonType"))

	_, method, input = taskMethod(`\`, "x", `NT AUTHORITY\LOCAL SERVICE`, "")
	assert.Equal(t, "SetByUser", method)
	assert.Len(t, input, 3, "an account of the machine has no password to be given")
	_, _, input = taskMethod(`\`, "x", "svc", "Berth-7")
	assert.Equal(t, wsman.Pair{Name: "Password", Value: "Berth-7"}, input[3])
	for account, is := range map[string]bool{`LARKMOOR\gmsa-tide$`: true, "svc": false, "": false, "$": true, `NORTH1\svc$x`: false} {
		assert.Equal(t, is, managed(account), account)
	}
	folder, name := splitTask(`\Berth\Deep\Nightly`)
	assert.Equal(t, `\Berth\Deep\ Nightly`, folder+" "+name)
}
