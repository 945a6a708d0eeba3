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
	b.see("3 of 14 systems not read completely")
	b.press("Close all")
	b.press("+ bookings1")
	b.see("bookings-web.service")
	b.accessible("one system opened")
	b.open("/accounts/"+account+"/radius", "6 dependents")
	evaluate[bool](b, "document.querySelectorAll('.filters input')[1].click(); true")
	b.see("2 dependents of its own")
	evaluate[bool](b, "document.querySelectorAll('.filters input')[2].click(); true")
	b.see("Nothing is known to use it by this evidence")
	b.accessible("no evidence")

	b.open("/", "Overview")
	evaluate[bool](b, "window.dispatchEvent(new KeyboardEvent('keydown', { key: 'k', ctrlKey: true }))")
	b.see("Arrow keys choose")
	b.fill(".search-everywhere input", "tidecache")
	b.see("unit on tide1")
	b.settle()
	b.accessible("search")
	b.shot("search")
	b.fill(".search-everywhere input", "zeppelin")
	b.see("Nothing has “tidecachezeppelin”")

	b.open("/accounts/"+account+"?tab=uses", "Observed and declared use")
	b.see("till.service")
	b.press("Declare a use that nothing shows")
	b.see("How you know")
	b.fill("#use-place", "paper form")
	b.fill("#use-system", "quay1")
	b.fill("#use-reason", "Ines saw it")
	b.press("Declare")
	b.see("Withdraw")
	b.settle()
	b.accessible("declared")
	said := u.rows("dependent", "list", "--filter", "kind=declared")
	require.Len(t, said, 1)
	assert.Equal(t, "quay1", said[0]["system"])
	b.press("Withdraw")
	b.see("Withdraw what was said?")
	evaluate[bool](b, "document.querySelector('.ant-popover:not(.ant-popover-hidden) .ant-btn-primary').click(); true")
	b.unsee("paper form")
	require.Empty(t, u.rows("dependent", "list", "--filter", "kind=declared", "--filter", "gone="))

	b.page("/connections?f=system=bookings1", "who talks to whom", "connections")
}
