package rights

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/unixhost/shell"
	"mossledger.example/moss/internal/core/privilege"
	"mossledger.example/moss/internal/core/privilege/sudo"
)

const (
	passwd = "root:x:0:0:root:/root:/bin/bash\nberth:x:2001:3001::/:/bin/sh\ntide:x:2002:2002::/:/bin/sh\ntoor:x:0:0:again:/root:/bin/sh\nbroken\n"
	group  = "root:x:0:\ncrew:x:3001:tide\ntide:x:2002:\nquay:x:3002:berth, nobody\nalias:x:3001:tide\nbroken:x\n"
)

func read() *host {
	h := &host{Session: &shell.Session{}, byName: map[string]string{}, byUID: map[string]string{}, groups: map[string]string{}, byGID: map[string]string{}, called: map[string][]string{}, of: map[string][]string{}, names: map[string]string{}, homes: map[string]string{}}
	h.Facts.Identity = "m"
	h.Target = connect.Target{Name: "quay1"}
	h.add(passwd, group)
	return h
}

func TestPrincipals(t *testing.T) {
	h := read()
	g := privilege.NewGraph(h.Principals, h.Memberships)
	in := func(id string) (out []string) {
		for _, chain := range g.Effective(id) {
			out = append(out, privilege.Right{Path: chain}.Through())
		}
		return out
	}
	assert.Equal(t, []string{"crew (primary group)", "quay", "everyone"}, in("m:2001"))
	assert.Equal(t, []string{"tide (primary group)", "crew", "everyone"}, in("m:2002"))
	assert.Len(t, h.Lists, 1, "a second name for user id 0 is the same account")
	assert.Equal(t, privilege.VerbEverything, h.Lists[0].Entries[0].Verb)
	for item, want := range map[sudo.Item]string{
		{Kind: sudo.ItemAll}: everyone, {Kind: sudo.ItemName, Name: "BERTH"}: "m:2001", {Kind: sudo.ItemName, Name: "nobody"}: "", {Kind: sudo.ItemID, Name: "2002"}: "m:2002",
		{Kind: sudo.ItemGroup, Name: "alias"}: "group:3001", {Kind: sudo.ItemGroupID, Name: "3002"}: "group:3002", {Kind: sudo.ItemNetGroup, Name: "x"}: "",
	} {
		assert.Equal(t, want, h.id(item), "%+v", item)
	}
}

// sshd_config(5): the first directive of a kind decides for PermitRootLogin, all of the others
// count together, in the order DenyUsers, AllowUsers, DenyGroups, AllowGroups.
func TestLetIn(t *testing.T) {
	for _, c := range []struct {
		config string
		in     string // who is let in
		unsure bool
	}{
		{"", "root berth tide", false},
		{"PermitRootLogin no\nPermitRootLogin yes\n", "berth tide", false},
		{"PermitRootLogin prohibit-password", "root berth tide", false},
		{"DenyUsers tide\n", "root berth", false},
		{"AllowUsers berth\nAllowUsers root\n", "root berth", false},
		{"AllowUsers *th tide@192.0.2.*\nDenyUsers berth\n", "tide", false},
		{"AllowUsers !berth b* t*\n", "tide", false},
		{"DenyGroups quay\n", "root tide", false},
		{"AllowGroups crew\n", "berth tide", false},
		{"AllowGroups quay root\nDenyGroups crew\n", "root", false},
		{"allowusers=berth\n", "berth", false},
		{"DenyUsers tide\nMatch Address 192.0.2.0/24\n  DenyUsers berth\n", "root berth", true},
		{"Match all\nDenyUsers tide\n", "root berth", false},
		{"# DenyUsers tide\n", "root berth tide", false},
	} {
		h := read()
		directives, failure := h.directives(t.Context(), "/etc/ssh/sshd_config", c.config, "", 0)
		assert.Nil(t, failure)
		var in []string
		unsure := false
		for _, e := range h.letIn(directives) {
			if !e.Deny {
				in = append(in, h.names[e.To])
			}
			unsure = unsure || e.Unsure != ""
			assert.NotEmpty(t, e.Text)
			assert.NotEmpty(t, e.Source)
		}
		assert.Equal(t, c.in, strings.Join(in, " "), c.config)
		assert.Equal(t, c.unsure, unsure, c.config)
	}
}

func TestUnits(t *testing.T) {
	h := read()
	before := len(h.Memberships)
	h.unitsOf(strings.Join([]string{
		"Id=tidefeed.service\nUser=tide\nGroup=quay\nSupplementaryGroups=crew 3002\nAmbientCapabilities=cap_net_bind_service cap_chown\nNoNewPrivileges=no\n",
		"Id=berth.service\nUser=2001\nAmbientCapabilities=\n", "Id=web.service\nUser=root\nAmbientCapabilities=cap_chown\n", "Id=gone.service\nUser=nobody\n", "User=berth\n", "",
	}, "\n"))
	var lines []string
	for _, m := range h.Memberships[before:] {
		lines = append(lines, fmt.Sprint(m.Member, " ", m.Group, " ", m.Term))
	}
	assert.Equal(t, []string{"m:2002 group:3002 only in tidefeed.service"}, lines, "what it lies in already is no news")
	last := h.Lists[len(h.Lists)-1]
	assert.Equal(t, "unit:tidefeed.service", last.Key)
	assert.Len(t, h.Lists, 2)
	assert.Equal(t, []string{"CAP_NET_BIND_SERVICE", "CAP_CHOWN"}, []string{last.Entries[0].What, last.Entries[1].What})
}
