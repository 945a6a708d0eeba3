package e2e

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestConsoleKeys: a key pair is looked at, taken, rehearsed and rotated in the
// console; one that nobody holds says so. Options of many systems are set there
// too.
func TestConsoleKeys(t *testing.T) {
	t.Parallel()
	d, u := startDemo(t)
	b := signedIn(t, d)
	b.page("/credentials", "backup@tide1", "credentials")
	id := fmt.Sprint(u.rows("credential", "list", "--filter", "kind=ssh-key", "--filter", "points=3")[0]["id"])
	lost := fmt.Sprint(u.rows("credential", "list", "--filter", "kind=ssh-key", "--filter", "locations=0")[0]["id"])

	b.open("/credentials/"+lost, "paste its private half")
	b.press("Paste the private half")
	b.fill("#custody-key", "no key")
	b.press("Take and prove")
	b.see("no private key in it that can be read")
	b.accessible("a key that nobody holds")

	b.open("/credentials/"+id, "What it opens, and who holds it")
	b.press("Take into custody")
	b.see("3 of 3 doors opened")
	b.see("A rehearsal says")
	b.press("Rehearse")
	b.see("add the new key beside the old one")
	b.settle()
	b.accessible("a key rehearsed")
	b.page("/credentials/"+id, "What it opens, and who holds it", "credential")
	b.see("A rehearsal says")
	b.press("Rehearse")
	b.see("The rehearsal")
	b.fill("input[aria-label='Reason of the rotation']", "quarterly")
	b.press("Rotate backup@tide1 now")
	b.see("14 of 14 steps done. It took")
	b.settle()
	b.accessible("a key rotated")

	b.open("/options", "There are none yet")
	b.press("Set an option")
	b.see("All systems whose")
	b.fill("#option-value", "production")
	b.fill("#option-setting", "/mnt/shared.env")
	b.press("Set")
	b.see("environment production")
	b.settle()
	b.accessible("common options")
	b.press("Remove the option paths of environment production")
	b.see("Take it away from")
	evaluate[bool](b, "document.querySelector('.ant-popover:not(.ant-popover-hidden) .ant-btn-primary').click(); true")
	b.see("There are none yet")
	rotated := u.rows("credential", "list", "--filter", "kind=ssh-key", "--filter", "points=3")
	assert.Equal(t, "accepted", rotated[0]["verdict"])
	assert.NotEmpty(t, rotated[0]["rotated"])
}
