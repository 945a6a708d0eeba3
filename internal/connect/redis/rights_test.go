package redis

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"

	"mossledger.example/moss/internal/connect"
)

// A line of ACL LIST: commands in their order, keys and channels, selectors of their own.
func TestUserRights(t *testing.T) {
	var r connect.Rights
	userRights(&r, "cache", "user tides on sanitize-payload #e3b0 ~tide:* %R~log:* %W~out:* %RW~both resetchannels &feed* -@all +@read -keys +config|get (~x:* +set)")
	userRights(&r, "cache", "user nobody off resetchannels -@all")
	userRights(&r, "cache", "nonsense")
	assert.Len(t, r.Principals, 2)
	var lines []string
	for _, l := range r.Lists {
		for _, e := range l.Entries {
			lines = append(lines, fmt.Sprint(l.Key, " ", e.Verb, " ", e.What, " ", e.Deny, " ", len(e.Terms)))
		}
	}
	assert.Equal(t, []string{
		"commands:tides run @read false 0", "commands:tides run keys true 0", "commands:tides run config get false 0", "commands:tides run set false 1",
		"keys:tides read and write tide:* false 0", "keys:tides read log:* false 0", "keys:tides write out:* false 0", "keys:tides read and write both false 0", "keys:tides read and write x:* false 1",
		"channels:tides use channels feed* false 0",
	}, lines)
}
