package assembly_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/app/configuration"
	"mossledger.example/moss/internal/core/notice"
	"mossledger.example/moss/internal/records"
)

func text(t *testing.T, raw string) (d configuration.Document) {
	t.Helper()
	require.NoError(t, json.Unmarshal([]byte(raw), &d))
	return d
}

const nightly = `{"format":"moss-configuration-1",
	"windows":{"nights":{"rule":"FREQ=DAILY","begins":"2026-01-01T22:00","zone":"Europe/Oslo","minutes":240,"labels":["service"]}},
	"policies":{"quarterly":{"label":"service","precedence":2,"every_days":90,"window":"nights"},"monthly":{"label":"tides","precedence":1,"every_days":30}},
	"rules":{"services":{"label":"service","condition":"account.name.startsWith(\"svc-\")","take_in":"nights"}},
	"orders":{"boards":{"kind":"group","at_once":1,"members":[{"place":"berth.service"}]}},
	"requirements":{"quay":{"label":"quay"}},
	"recipients":{"logs":{"kind":"syslog","address":"logs.larkmoor.example:6514","least":"warning"}}}`

// applied shows and applies a text.
func (f *ferry) applied(by access.Actor, d configuration.Document) configuration.DocumentApplied {
	f.t.Helper()
	p, err := f.Texts.Preview(f.t.Context(), by, d)
	require.NoError(f.t, err)
	did, err := f.Texts.Apply(f.t.Context(), by, d, p.Mark, "merge 41")
	require.NoError(f.t, err)
	assert.Equal(f.t, p.Changes, did.Changes, "what was shown is what happens")
	return did
}

func (f *ferry) decided() (out []string) {
	f.t.Helper()
	ctx := f.t.Context()
	rules, err := f.Store.AllRules(ctx)
	require.NoError(f.t, err)
	windows, err := f.Store.AllWindows(ctx)
	require.NoError(f.t, err)
	policies, err := f.Store.AllPolicies(ctx)
	require.NoError(f.t, err)
	requirements, err := f.Store.AllRequirements(ctx)
	require.NoError(f.t, err)
	for _, v := range rules {
		out = append(out, "rule "+v.Name)
	}
	for _, v := range windows {
		out = append(out, "window "+v.Name)
	}
	for _, v := range policies {
		out = append(out, "policy "+v.Name)
	}
	for _, v := range requirements {
		out = append(out, "requirement "+v.Name)
	}
	return out
}

// A text is applied as a whole, as it was shown, and again without any effect; what differs
// afterwards is changed, and what it does not have goes, in whatever order that works.
func TestATextIsApplied(t *testing.T) {
	f := start(t)
	ctx := t.Context()
	d := text(t, nightly)
	p, err := f.Texts.Preview(ctx, ines, d)
	require.NoError(t, err)
	assert.Len(t, p.Changes, 7)
	require.Len(t, p.Rules, 1)
	assert.Positive(t, p.Rules[0].Gain)
	assert.Positive(t, p.Rules[0].NotTaken)
	assert.Empty(t, f.decided(), "a preview keeps nothing")
	assert.Empty(t, f.told("window.save"), "in the ledger neither")
	_, err = f.Texts.Apply(ctx, ines, d, "", "")
	require.ErrorContains(t, err, "look at a preview first")

	assert.Len(t, f.applied(ines, d).Changes, 7)
	assert.Equal(t, []string{"rule services", "window nights", "policy quarterly", "policy monthly", "requirement quay"}, f.decided())
	assert.Equal(t, []notice.Severity{notice.Warning}, f.told("configuration.apply"))
	assert.Len(t, f.told("policy.save"), 2)
	labelled, err := f.Store.LabelsOf(ctx, f.account("svc-berth").ID)
	require.NoError(t, err)
	assert.Contains(t, labelled, records.AccountLabel{Label: "service", On: true, Rules: []string{"services"}, Excluded: []string{}}, "its rules are applied")
	assert.Empty(t, f.applied(ines, d).Changes, "again it changes nothing")
	assert.Len(t, f.told("policy.save"), 2)

	// Two policies change places, a window gives its label to another one and goes.
	v := d.Policies["quarterly"]
	v.Precedence = 1
	v.Window = "evenings"
	w := d.Policies["monthly"]
	w.Precedence = 3
	d.Policies = map[string]configuration.PolicyText{"quarterly": v, "monthly": w}
	evenings := d.Windows["nights"]
	evenings.Minutes = 60
	d.Windows = map[string]configuration.WindowText{"evenings": evenings}
	rule := d.Rules["services"]
	rule.TakeIn = ""
	d.Rules = map[string]configuration.RuleText{"SERVICES": rule}
	d.Orders, d.Recipients = nil, map[string]configuration.RecipientText{}
	did := f.applied(ines, d)
	var what []string
	for _, c := range did.Changes {
		what = append(what, c.What+" "+c.Part+" "+c.Name)
	}
	assert.Equal(t, []string{"added windows evenings", "removed windows nights", "changed policies monthly", "changed policies quarterly", "changed rules services", "removed recipients logs"}, what)
	orders, err := f.Store.AllOrders(ctx)
	require.NoError(t, err)
	assert.Len(t, orders, 1, "a part that is not named stays")
	assert.Empty(t, f.applied(ines, d).Changes)
	report, err := f.Store.LedgerVerify(ctx)
	require.NoError(t, err)
	assert.Empty(t, report.Problems)
}

// When one thing of a text is wrong, nothing of it is kept, and it is said which.
func TestATextThatIsWrong(t *testing.T) {
	f := start(t)
	ctx := t.Context()
	for words, change := range map[string]func(d *configuration.Document){
		"rules services: ": func(d *configuration.Document) {
			d.Rules = map[string]configuration.RuleText{"services": {Label: "service", Condition: "account.nmae"}}
		},
		"policies quarterly: ": func(d *configuration.Document) {
			d.Policies = map[string]configuration.PolicyText{"quarterly": {Precedence: 1}}
		},
		`there is no window "noon"`: func(d *configuration.Document) {
			d.Rules = map[string]configuration.RuleText{"x": {Label: "x", Condition: "true", TakeIn: "noon"}}
		},
		"already, and which of two decides must be clear": func(d *configuration.Document) {
			v := d.Policies["quarterly"]
			v.Precedence = 1
			d.Policies = map[string]configuration.PolicyText{"quarterly": v, "monthly": d.Policies["monthly"]}
		},
		"give the secret": func(d *configuration.Document) {
			d.Recipients = map[string]configuration.RecipientText{"hook": {Kind: "webhook", Address: "https://hook.larkmoor.example/x"}}
		},
		"no dependent of quay1 is at nowhere.service": func(d *configuration.Document) {
			w := d.Windows["nights"]
			w.Dependents = []configuration.PlaceText{{System: "quay1", Place: "nowhere.service"}}
			d.Windows = map[string]configuration.WindowText{"nights": w}
		},
		"are the same name": func(d *configuration.Document) {
			d.Orders = map[string]configuration.OrderText{"a": d.Orders["boards"], "A": d.Orders["boards"]}
		},
		"its format is": func(d *configuration.Document) { d.Format = "another" },
	} {
		d := text(t, nightly)
		change(&d)
		_, err := f.Texts.Preview(ctx, ines, d)
		require.ErrorContains(t, err, words)
		require.NotErrorIs(t, err, app.ErrCannot)
		assert.Empty(t, f.decided(), words)
	}
	d := text(t, nightly)
	_, err := f.Texts.Apply(ctx, access.Actor{Name: "ben", Roles: []string{access.RoleOperator}}, d, "x", "")
	require.ErrorIs(t, err, access.ErrDenied)
	_, err = f.Texts.Preview(ctx, access.Actor{Name: "vera", Roles: []string{access.RoleViewer}}, d)
	require.ErrorIs(t, err, access.ErrDenied)
}

// What by hand takes a second person does so in a text as well: all of it waits, and what was
// approved is what is applied, or nothing is.
func TestATextForTwo(t *testing.T) {
	f := start(t)
	ctx := t.Context()
	f.person("ines", "operator", "approver", "administrator")
	f.person("ola", "approver")
	d := text(t, nightly)
	did := f.applied(ines, d)
	require.Zero(t, did.Approval, "what makes things stricter is done at once")

	d.Requirements = map[string]configuration.RequirementText{}
	d.Policies = map[string]configuration.PolicyText{"quarterly": d.Policies["quarterly"]}
	did = f.applied(ines, d)
	require.NotZero(t, did.Approval)
	assert.Contains(t, f.decided(), "requirement quay")
	assert.Contains(t, f.decided(), "policy monthly")
	asked, err := f.Store.Approval(ctx, did.Approval)
	require.NoError(t, err)
	assert.Contains(t, asked.What, "2 changes, of which 1 take a second person")
	_, err = f.Approvals.Approve(ctx, ines, asked.ID, asked.Digest, "")
	require.ErrorContains(t, err, "somebody else approves it")

	// Somebody changes something by hand meanwhile.
	w, err := f.Store.Window(ctx, "nights")
	require.NoError(t, err)
	w.Minutes = 200
	_, err = f.Policies.SaveWindow(ctx, ines, w)
	require.NoError(t, err)
	_, err = f.Approvals.Approve(ctx, ola, asked.ID, asked.Digest, "go on")
	require.ErrorContains(t, err, "is not what was shown")
	assert.Contains(t, f.decided(), "requirement quay")

	did = f.applied(ines, d)
	asked, err = f.Store.Approval(ctx, did.Approval)
	require.NoError(t, err)
	done, err := f.Approvals.Approve(ctx, ola, asked.ID, asked.Digest, "go on")
	require.NoError(t, err)
	assert.Equal(t, "applied: 3 changes", done.Words)
	assert.Equal(t, []string{"rule services", "window nights", "policy quarterly"}, f.decided())
}
