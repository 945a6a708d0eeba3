package assembly_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/configuration"
	"mossledger.example/moss/internal/records"
)

// estateText is what there is now, as a text.
func (f *ferry) estateText() configuration.Document {
	f.t.Helper()
	d := configuration.Document{Format: configuration.Format, Systems: map[string]configuration.SystemText{}, People: map[string]configuration.PersonText{}, Labels: map[string]configuration.LabelsText{}}
	systems, err := f.Store.AllSystems(f.t.Context())
	require.NoError(f.t, err)
	for _, v := range systems {
		d.Systems[v.Name] = configuration.SystemText{Kind: v.Kind, Address: v.Address, Port: v.Port, Steward: v.Steward, Site: v.Site, Environment: v.Environment, Owner: v.Owner, Options: v.Options, TrustedCA: v.TrustedCA}
	}
	people, err := f.Store.Users(f.t.Context(), records.Query{})
	require.NoError(f.t, err)
	for _, v := range people.Items {
		d.People[v.Name] = configuration.PersonText{Roles: v.Roles, Disabled: v.Disabled}
	}
	hands, err := f.Store.AllHandLabels(f.t.Context())
	require.NoError(f.t, err)
	for _, v := range hands {
		d.Labels[v.Name] = configuration.LabelsText{Labels: v.Labels}
	}
	return d
}

// TestTheEstateAsText: systems, people and labels by hand are decided by a text as by hand, and
// where that takes a second person, so it does here, for all of it.
func TestTheEstateAsText(t *testing.T) {
	f := start(t)
	ctx := t.Context()
	f.person("ines", access.Roles()...)
	d := f.estateText()
	require.NotEmpty(t, d.Systems)
	assert.Empty(t, f.applied(ines, d).Changes, "what there is changes nothing")

	quay := d.Systems["quay1"]
	quay.Site, quay.Owner = "South pier", "Quay crew"
	d.Systems["quay1"] = quay
	d.Systems["spare"] = configuration.SystemText{Kind: "unix-host", Address: "192.0.2.77"}
	d.Labels["dir/svc-berth"] = configuration.LabelsText{Labels: []string{"boats", "quay", "boats"}}
	assert.Len(t, f.applied(ines, d).Changes, 3)
	assert.Equal(t, "South pier", f.system("quay1").Site)
	assert.Equal(t, "192.0.2.77", f.system("spare").Address)
	labels, err := f.Store.LabelsOf(ctx, f.account("dir/svc-berth").ID)
	require.NoError(t, err)
	require.Len(t, labels, 2)
	assert.True(t, labels[0].ByHand && labels[1].ByHand)
	assert.Empty(t, f.applied(ines, f.estateText()).Changes)

	// From here on there is somebody else: who approves, and what is removed, is not one's
	// own to decide.
	f.person("ben", access.RoleOperator, access.RoleAdministrator)
	f.person("ola", access.RoleApprover)
	d = f.estateText()
	d.People["ben"] = configuration.PersonText{Roles: []string{access.RoleApprover}}
	d.People["ola"] = configuration.PersonText{Roles: []string{access.RoleApprover}, Disabled: true}
	delete(d.Systems, "spare")
	p, err := f.Texts.Preview(ctx, ines, d)
	require.NoError(t, err)
	assert.Contains(t, p.Second, "who approves: ola", "to keep somebody out who approves takes two as well")
	d.People["ola"] = configuration.PersonText{Roles: []string{access.RoleApprover}}
	d.Labels = map[string]configuration.LabelsText{}
	p, err = f.Texts.Preview(ctx, ines, d)
	require.NoError(t, err)
	assert.Equal(t, []string{"removed: the system spare, with 0 accounts, 0 dependents, 0 rehearsals and 0 rotations", "who approves: ben"}, p.Second)
	did, err := f.Texts.Apply(ctx, ines, d, p.Mark, "as agreed")
	require.NoError(t, err)
	require.NotZero(t, did.Approval)
	user, err := f.Store.User(ctx, "ben")
	require.NoError(t, err)
	assert.NotContains(t, user.Roles, access.RoleApprover, "nothing is done before it is approved")
	assert.Equal(t, "spare", f.system("spare").Name)
	asked, err := f.Store.Approval(ctx, did.Approval)
	require.NoError(t, err)
	_, err = f.Approvals.Approve(ctx, ines, asked.ID, asked.Digest, "")
	require.ErrorContains(t, err, "somebody else approves it", "who asks cannot approve")
	_, err = f.Approvals.Approve(ctx, access.Actor{Name: "ola", Roles: []string{access.RoleApprover}}, asked.ID, asked.Digest, "")
	require.NoError(t, err)
	user, err = f.Store.User(ctx, "ben")
	require.NoError(t, err)
	assert.Equal(t, []string{access.RoleApprover}, user.Roles)
	_, err = f.Store.System(ctx, "spare")
	require.ErrorIs(t, err, records.ErrNotFound)
	hands, err := f.Store.AllHandLabels(ctx)
	require.NoError(t, err)
	assert.Empty(t, hands)
	report, err := f.Store.LedgerVerify(ctx)
	require.NoError(t, err)
	assert.Empty(t, report.Problems)
}

// TestWhatATextCannotDecide: rights of one's own, somebody new, where secrets go without a
// second person, and what somebody may not see.
func TestWhatATextCannotDecide(t *testing.T) {
	f := start(t)
	ctx := t.Context()
	admin := access.Actor{Name: "ines", Roles: []string{access.RoleAdministrator}}
	f.person("ines", access.RoleAdministrator)
	f.person("ola", access.RoleApprover, access.RoleAdministrator)
	for words, change := range map[string]func(d *configuration.Document){
		"you cannot give yourself a role": func(d *configuration.Document) {
			d.People["ines"] = configuration.PersonText{Roles: []string{access.RoleAdministrator, access.RoleOperator}}
		},
		"somebody new needs a password": func(d *configuration.Document) {
			d.People["eve"] = configuration.PersonText{Roles: []string{access.RoleAuditor}}
		},
		"people are not removed by a text": func(d *configuration.Document) { delete(d.People, "ola") },
		"unknown role":                     func(d *configuration.Document) { d.People["ola"] = configuration.PersonText{Roles: []string{"king"}} },
		"is written SYSTEM/ACCOUNT": func(d *configuration.Document) {
			d.Labels["svc-berth"] = configuration.LabelsText{Labels: []string{"x"}}
		},
		"no account of dir is called nobody": func(d *configuration.Document) {
			d.Labels["dir/nobody"] = configuration.LabelsText{Labels: []string{"x"}}
		},
		"and no postgresql": func(d *configuration.Document) {
			v := d.Systems["quay1"]
			v.Kind = "postgresql"
			d.Systems["quay1"] = v
		},
		`unknown option "x"`: func(d *configuration.Document) {
			v := d.Systems["quay1"]
			v.Options = map[string]string{"x": "y"}
			d.Systems["quay1"] = v
		},
	} {
		d := f.estateText()
		change(&d)
		_, err := f.Texts.Preview(ctx, admin, d)
		require.ErrorContains(t, err, words)
	}
	d := f.estateText()
	_, err := f.Texts.Preview(ctx, access.Actor{Name: "odile", Roles: []string{access.RoleOperator}}, d)
	require.ErrorIs(t, err, access.ErrDenied, "what differs would tell what somebody may do")
	// Another address keeps its secrets back until somebody else approved it, as by hand.
	quay := d.Systems["quay1"]
	quay.Address = "192.0.2.66"
	d.Systems["quay1"] = quay
	f.applied(admin, d)
	waits := f.system("quay1")
	assert.NotZero(t, waits.Waits, "nothing secret goes there before it is approved")
	_, _, err = f.Inventory.Target(ctx, waits)
	require.Error(t, err)
}
