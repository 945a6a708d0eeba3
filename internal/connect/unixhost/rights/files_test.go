package rights

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/privilege"
	"mossledger.example/moss/internal/core/privilege/posix"
)

func TestFilesOfUnits(t *testing.T) {
	got := filesOf("Id=a.service\nUser=berth\nEnvironmentFiles=/etc/a.env (ignore_errors=no)\nEnvironmentFiles=/etc/b.env (ignore_errors=yes)\nLoadCredential=pw:/etc/a.pw other:/run/x\nExecStart={ path=/opt/a/bin/run ; argv[]=/opt/a/bin/run --x ; ignore_errors=no }\nFragmentPath=/etc/systemd/system/a.service\nDropInPaths=/etc/systemd/system/a.service.d/one.conf /run/systemd/two.conf\n\nId=b.service\nUser=tide\nEnvironmentFiles=/etc/a.env (ignore_errors=no)\nExecStart={ path=/usr/bin/sleep ; argv[]=x }\nFragmentPath=/lib/systemd/system/b.service\n")
	assert.Equal(t, asked{true, true, []string{"berth", "tide"}}, got["/etc/a.env"])
	assert.Equal(t, asked{true, true, []string{"berth"}}, got["/etc/a.pw"])
	assert.Equal(t, asked{false, true, []string{"berth"}}, got["/opt/a/bin/run"])
	assert.True(t, got["/etc/systemd/system/a.service"].write)
	assert.True(t, got["/etc/systemd/system/a.service.d/one.conf"].write)
	for _, left := range []string{"/usr/bin/sleep", "/lib/systemd/system/b.service", "/run/systemd/two.conf"} {
		assert.NotContains(t, got, left, "what packages bring root alone writes")
	}
	assert.Empty(t, filesOf("EnvironmentFiles=/etc/*.env (x)\nEnvironmentFiles=relative\n"))
}

func TestNodes(t *testing.T) {
	n, acl, ok := nodeOf("-rw-r-----+ 1 0 1001 12 1764000000 /srv/odd name ")
	require.True(t, ok)
	assert.True(t, acl)
	assert.Equal(t, posix.FromMode("/srv/odd name ", "0", "1001", 0o640), n)
	n, acl, ok = nodeOf("drwxr-xr-t. 2 0 0 4096 1764000000 /tmp")
	require.True(t, ok)
	assert.False(t, acl)
	assert.Equal(t, 5, n.Other)
	n, _, ok = nodeOf("-rwSr-sr-T 1 0 0 1 1764000000 /x")
	require.True(t, ok)
	assert.Equal(t, []int{6, 5, 4}, []int{n.Owner, n.Group, n.Other}, "letters for two bits")
	for _, line := range []string{"", "total 5", "ls: cannot access", "-rw 1 0 0 1 2 /x", "-rw-r--r-- 1 0 0 1 2 relative"} {
		_, _, ok := nodeOf(line)
		assert.False(t, ok, line)
	}
	way, why := wayOf("/a/b", map[string]posix.Node{"/": {Path: "/"}, "/a": {Path: "/a"}}, map[string]bool{"/a/b": true})
	assert.Nil(t, way)
	assert.Contains(t, why, "/a/b are not shown")
	way, why = wayOf("/a/b", map[string]posix.Node{"/": {Path: "/"}}, nil)
	assert.Nil(t, way)
	assert.Empty(t, why, "what is not there is nobody's")
}

// A file that a unit uses is usual for whom it runs as, by himself or by his group, and for
// nobody else.
func TestUsual(t *testing.T) {
	h := &host{byName: map[string]string{"berth": "u1"}}
	h.Memberships = []privilege.Membership{{Member: "u1", Group: "g1"}}
	l := privilege.List{Entries: []privilege.Entry{{To: "u1"}, {To: "g1"}, {To: "u2"}, {To: "g2"}}}
	h.usual(&l, asked{users: []string{"berth", "nobody-of-this-name", ""}})
	assert.Equal(t, []bool{true, true, false, false}, []bool{l.Entries[0].Default, l.Entries[1].Default, l.Entries[2].Default, l.Entries[3].Default})
}
