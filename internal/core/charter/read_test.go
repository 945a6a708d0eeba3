package charter

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const manifests = `charter: manifest-import
description: Reads the manifests and writes them into the bookings database.
label: manifests
must:
  - member_of: manifest
    systems: [kind:unix-host]
    because: the drop folder belongs to this group
  - run: /usr/bin/systemctl reload manifest.service
    systems: [bookings*]
  - do: select
    to: table:bookings.public.manifests
    systems: [kind:postgresql]
never:
  - run: ALL
account:
  password_expires: true
  password_changed_within: 90
one_on: [bookings1, bookings2]
groups:
  - name: manifest
    systems: [kind:unix-host]
`

func TestParse(t *testing.T) {
	d, err := Parse(manifests)
	require.NoError(t, err)
	assert.Equal(t, "manifest-import", d.Name)
	assert.Equal(t, []string{"kind:unix-host"}, d.Must[0].On)
	assert.Equal(t, "select on table bookings.public.manifests", d.Must[2].Words())
	assert.True(t, *d.Account.PasswordExpires)
	assert.Equal(t, 90, d.Account.PasswordChangedWithin)

	// What was written is read as the same.
	text, err := d.Text()
	require.NoError(t, err)
	again, err := Parse(text)
	require.NoError(t, err, text)
	assert.Equal(t, d, again)
}

func TestWrongCharters(t *testing.T) {
	for name, c := range map[string]struct {
		text string
		want []Fault
	}{
		"empty":           {"", []Fault{{0, "", "it is empty: begin with charter: and its name"}}},
		"only a comment":  {"# nothing\n", []Fault{{0, "", "it is empty: begin with charter: and its name"}}},
		"no name":         {"label: x\n", []Fault{{1, "", "missing property 'charter'"}}},
		"not a map":       {"- a\n", []Fault{{1, "", "got array, want object"}}},
		"unknown field":   {"charter: a\nmusst: []\n", []Fault{{1, "", "additional properties 'musst' not allowed"}}},
		"two things":      {"charter: a\nmust:\n  - member_of: x\n    run: /bin/true\n", []Fault{{3, "must[0]", "say one of member_of, run, do and reach"}}},
		"none":            {"charter: a\nmust:\n  - as: root\n", []Fault{{3, "must[0]", "say one of member_of, run, do and reach"}}},
		"wrong type":      {"charter: a\naccount:\n  enabled: sometimes\n", []Fault{{3, "account.enabled", "got string, want boolean"}}},
		"two problems":    {"charter: A B\nmust:\n  - run: [a]\n", []Fault{{1, "charter", `'A B' does not match pattern '^[a-z0-9][a-z0-9._-]{0,62}$'`}, {3, "must[0].run", "got array, want string"}}},
		"an alias":        {"charter: a\nlabel: &x b\ndescription: *x\n", []Fault{{2, "", "anchors, aliases and tags are not read: write it out"}}},
		"twice":           {"charter: a\nlabel: b\nlabel: c\n", []Fault{{3, "", `mapping key "label" already defined at line 2`}}},
		"a second one":    {"charter: a\n---\ncharter: b\n", []Fault{{2, "", "a second document begins here: one text is one charter"}}},
		"no port":         {"charter: a\nmust:\n  - member_of: x\n  - because: so\n    reach: bookings-db\n", []Fault{{5, "must[1].reach", "say the host and the port: HOST:PORT"}}},
		"to without what": {"charter: a\nmust:\n  - run: /bin/true\n    to: x\n", []Fault{{3, "must[0]", "properties 'do' required, if 'to' exists"}}},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := Parse(c.text)
			var e *Error
			require.ErrorAs(t, err, &e)
			assert.Equal(t, c.want, e.Problems)
		})
	}
	_, err := Parse("charter: a\nmust: [\n")
	require.ErrorContains(t, err, "line 2")
}

func FuzzParse(f *testing.F) {
	f.Add(manifests)
	f.Add("charter: a\n<<: *x\n")
	f.Add("? [a]\n: b\n")
	f.Add("charter: !!binary aGk=\n")
	f.Fuzz(func(t *testing.T, text string) {
		d, err := Parse(text)
		if err != nil {
			var e *Error
			require.ErrorAs(t, err, &e)
			require.NotEmpty(t, e.Problems)
			return
		}
		out, err := d.Text()
		require.NoError(t, err)
		again, err := Parse(out)
		require.NoError(t, err, "%q became %q", text, out)
		same, err := again.Text()
		require.NoError(t, err)
		require.Equal(t, out, same)
	})
}
