package e2e

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestConsoleDependents: what would be touched as a picture, one search over
// everything, use that was seen and use that a person declares.
func TestConsoleDependents(t *testing.T) {
	t.Parallel()
	d, u := startDemo(t)
	b := signedIn(t, d)
	account := fmt.Sprint(u.rows("account", "list", "--filter", "name=svc_bookings")[0]["id"])

	b.page("/accounts/"+account+"/radius", "6 dependents", "radius")
	b.see("3 of 12 systems not read completely")
	b.press("Close all")
	b.press("+ bookings1")
	b.see("bookings-web.service")
	b.accessible("one system opened")
	b.open("/accounts/"+account+"/radius", "6 dependents")
	evaluate[bool](b, "document.querySelectorAll('fieldset input')[1].click(); true")
	b.see("2 dependents of its own")
	evaluate[bool](b, "document.querySelectorAll('fieldset input')[2].click(); true")
	b.see("Nothing is known to use it by this evidence")
	b.accessible("no evidence")

	b.open("/", "Overview")
	b.fill("input[type=search]", "tidecache")
	b.see("unit on tide1")
	b.accessible("search")
	b.settle()
	b.shot("search")
	b.fill("input[type=search]", "zeppelin")
	b.see("Nothing has these words")

	b.open("/accounts/"+account, "Observed and declared use")
	b.see("till.service")
	b.press("Declare a use that nothing shows")
	b.see("How you know")
	evaluate[bool](b, `[...document.querySelectorAll('form.row label')].forEach((l, i) => { const f = l.querySelector('input'); if (i < 3) { f.value = ['paper form', 'quay1', 'Ines saw it'][i]; f.dispatchEvent(new Event('input')) } }); true`)
	b.press("Declare")
	b.see("Withdraw")
	b.settle()
	b.accessible("declared")
	said := u.rows("dependent", "list", "--filter", "kind=declared")
	require.Len(t, said, 1)
	assert.Equal(t, "quay1", said[0]["system"])
	b.press("Withdraw")
	b.see("Declare a use that nothing shows")

	b.page("/systems/bookings1", "connections and ports", "sockets")
}
