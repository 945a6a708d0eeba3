package lab_test

import (
	"fmt"
	"math/rand"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect/unixhost"
	"mossledger.example/moss/internal/core/privilege"
	"mossledger.example/moss/internal/core/privilege/sudo"
	"mossledger.example/moss/internal/lab"
)

// Files of services with random modes, access lists and folders on the way: what is read of
// them is what the kernel says when each account tries.
func TestFilesOfServices(t *testing.T) {
	h := lab.NewHost(t, "files", 39)
	r := rand.New(rand.NewSource(7))
	var script strings.Builder
	users, groups := []string{"berth", "tide", "fuel", "crew1"}, []string{"deck", "engine", "pilots"}
	for _, g := range groups {
		fmt.Fprintf(&script, "groupadd %s\n", g)
	}
	for i, u := range users {
		fmt.Fprintf(&script, "useradd -m -s /bin/sh -G %s %s\n", groups[i%len(groups)], u)
	}
	script.WriteString("usermod -aG pilots berth\n")
	const files = 120
	for i := range files {
		folder := fmt.Sprintf("/srv/f%d/in", i)
		file := folder + "/service.env"
		fmt.Fprintf(&script, "mkdir -p %s; echo X=1 > %s\n", folder, file)
		for _, at := range []string{fmt.Sprintf("/srv/f%d", i), folder, file} {
			mode := r.Intn(512)
			if at != file && r.Intn(3) > 0 {
				mode |= 0o111
			}
			fmt.Fprintf(&script, "chown %s:%s %s; chmod %o %s\n", append(users, "root")[r.Intn(5)], append(groups, "root")[r.Intn(4)], at, mode, at)
			if r.Intn(3) == 0 {
				fmt.Fprintf(&script, "setfacl -m u:%s:%d,g:%s:%d,m::%d %s\n", users[r.Intn(4)], r.Intn(8), groups[r.Intn(3)], r.Intn(8), r.Intn(8), at)
			}
		}
		h.Write(t, fmt.Sprintf("/etc/systemd/system/file%d.service", i), fmt.Sprintf("[Service]\nEnvironmentFile=%s\nExecStart=/usr/bin/sleep infinity\n", file), 0o644)
	}
	h.Shell(t, script.String())
	h.Boot(t)
	h.Shell(t, "systemctl start --no-block $(cd /etc/systemd/system; ls file*.service) || true")
	model, coverage := modelOf(t, unixhost.Connector{}, h.Target(), sudo.Matches)
	assert.True(t, coverage.Complete, coverage.Why)
	var trial strings.Builder
	for _, u := range users {
		for i := range files {
			fmt.Fprintf(&trial, "runuser -u %s -- sh -c 'test -r /srv/f%d/in/service.env && echo %s %d read; test -w /srv/f%d/in/service.env && echo %s %d write' || true\n", u, i, u, i, i, u, i)
		}
	}
	kernel := map[string]bool{}
	for line := range strings.Lines(h.Shell(t, trial.String()+"true\n")) {
		kernel[strings.TrimSpace(line)] = true
	}
	compared := 0
	for _, u := range users {
		ids := model.Graph.Named(func(p privilege.Principal) bool { return p.Name == u }, privilege.KindAccount)
		require.Len(t, ids, 1)
		for i := range files {
			for _, verb := range []string{"read", "write"} {
				d := model.Decide(ids[0], privilege.Question{Verb: verb, Object: privilege.Object{Kind: "file", Name: fmt.Sprintf("/srv/f%d/in/service.env", i)}})
				if d.Unsure != "" {
					continue
				}
				compared++
				require.Equal(t, kernel[fmt.Sprintf("%s %d %s", u, i, verb)], d.Allowed, "%s may %s file %d: %+v\n%s", u, verb, i, d, h.Shell(t, fmt.Sprintf("ls -ldn /srv/f%d /srv/f%d/in /srv/f%d/in/*; getfacl -n /srv/f%d /srv/f%d/in /srv/f%d/in/* || true", i, i, i, i, i, i)))
			}
		}
	}
	assert.Equal(t, 2*files*len(users), compared)
	t.Logf("%d of %d questions had an answer", compared, 2*files*len(users))
}
