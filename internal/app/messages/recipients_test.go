package messages

import (
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/app"
	"mossledger.example/moss/internal/app/access"
	"mossledger.example/moss/internal/connect/tell"
	"mossledger.example/moss/internal/core/secret"
	"mossledger.example/moss/internal/records"
)

func TestWhatIsRefused(t *testing.T) {
	p := newPost(t)
	key := secret.New("long-enough-to-sign-with")
	mail := records.RecipientSettings{From: "moss@larkmoor.example", To: []string{"ines@larkmoor.example"}}
	for words, c := range map[string]struct {
		v     records.Recipient
		given secret.Value
	}{
		"cannot be the name":      {records.Recipient{Name: "Duty One", Kind: tell.Webhook, Address: "https://duty.larkmoor.example"}, key},
		"only https":              {records.Recipient{Name: "duty", Kind: tell.Webhook, Address: "http://duty.larkmoor.example"}, key},
		"write it like logs":      {records.Recipient{Name: "duty", Kind: tell.Syslog, Address: "logs.larkmoor.example"}, secret.Value{}},
		"at least 16 bytes":       {records.Recipient{Name: "duty", Kind: tell.Webhook, Address: "https://duty.larkmoor.example"}, secret.New("short")},
		"give the secret":         {records.Recipient{Name: "duty", Kind: tell.Webhook, Address: "https://duty.larkmoor.example"}, secret.Value{}},
		"takes no secret":         {records.Recipient{Name: "duty", Kind: tell.Syslog, Address: "logs.larkmoor.example:6514"}, key},
		"say to whom":             {records.Recipient{Name: "duty", Kind: tell.Mail, Address: "mail.larkmoor.example:587", RecipientSettings: records.RecipientSettings{From: "moss@larkmoor.example"}}, secret.Value{}},
		"whom it is from":         {records.Recipient{Name: "duty", Kind: tell.Mail, Address: "mail.larkmoor.example:587", RecipientSettings: records.RecipientSettings{To: mail.To}}, secret.Value{}},
		"are for mail":            {records.Recipient{Name: "duty", Kind: tell.Syslog, Address: "logs.larkmoor.example:6514", RecipientSettings: mail}, secret.Value{}},
		"one of mail, syslog":     {records.Recipient{Name: "duty", Kind: "pigeon", Address: "loft"}, secret.Value{}},
		"nothing is called so":    {records.Recipient{Name: "duty", Kind: tell.Syslog, Address: "logs.larkmoor.example:6514", RecipientSettings: records.RecipientSettings{Events: []string{"tide.*"}}}, secret.Value{}},
		"label":                   {records.Recipient{Name: "duty", Kind: tell.Syslog, Address: "logs.larkmoor.example:6514", RecipientSettings: records.RecipientSettings{Labels: []string{"Not A Label"}}}, secret.Value{}},
		"it is one of critical":   {records.Recipient{Name: "duty", Kind: tell.Syslog, Address: "logs.larkmoor.example:6514", RecipientSettings: records.RecipientSettings{Least: "loud"}}, secret.Value{}},
		"not a certificate":       {records.Recipient{Name: "duty", Kind: tell.Syslog, Address: "logs.larkmoor.example:6514", RecipientSettings: records.RecipientSettings{TrustedCA: "hello"}}, secret.Value{}},
		"has no place in an addr": {records.Recipient{Name: "duty", Kind: tell.Webhook, Address: "https://moss:pw@duty.larkmoor.example"}, key},
	} {
		_, err := p.Messages.Save(t.Context(), ines, c.v, c.given)
		require.ErrorIs(t, err, app.ErrInput, words)
		assert.ErrorContains(t, err, words)
	}
	for _, roles := range [][]string{{access.RoleOperator}, {access.RoleAuditor, access.RoleApprover}} {
		ben := access.Actor{Name: "ben", Roles: roles}
		_, err := p.Messages.Save(t.Context(), ben, records.Recipient{Name: "duty", Kind: tell.Syslog, Address: "logs.larkmoor.example:6514"}, secret.Value{})
		require.Error(t, err)
		require.Error(t, p.Messages.Remove(t.Context(), ben, "duty", 1))
		_, err = p.Test(t.Context(), ben, "duty")
		require.Error(t, err)
	}
	list, err := p.AllRecipients(t.Context())
	require.NoError(t, err)
	assert.Empty(t, list)
}

// A secret goes where it was given for, or nowhere: not to another address, authority or
// user, and not when somebody moves it in the database.
func TestASecretGoesNowhereElse(t *testing.T) {
	p := newPost(t)
	ctx := t.Context()
	v := p.add(records.Recipient{Name: "duty"})
	for what, change := range map[string]func(*records.Recipient){
		"address":   func(r *records.Recipient) { r.Address = "https://eve.larkmoor.example/" },
		"authority": func(r *records.Recipient) { r.TrustedCA = testCA },
	} {
		other := v
		change(&other)
		_, err := p.Messages.Save(ctx, ines, other, secret.Value{})
		require.ErrorIs(t, err, app.ErrInput, what)
		require.ErrorContains(t, err, "goes nowhere else", what)
	}
	other := v
	other.Address = "https://watch.larkmoor.example/"
	_, err := p.Messages.Save(ctx, ines, other, secret.New("another-key-for-the-watch"))
	require.NoError(t, err)
	_, err = p.Test(ctx, ines, "duty")
	require.NoError(t, err)
	assert.Equal(t, "another-key-for-the-watch", p.keys["duty"])

	// In the database: the address of one, the sealed secret of another.
	kept, err := p.Recipient(ctx, "duty")
	require.NoError(t, err)
	kept.Address = "https://eve.larkmoor.example/"
	require.NoError(t, p.SaveRecipient(ctx, kept))
	p.tried = 0
	_, err = p.Test(ctx, ines, "duty")
	require.ErrorContains(t, err, "was not sealed for https://eve.larkmoor.example/")
	assert.Zero(t, p.tried, "nothing was sent")

	// Without one any more, none is kept.
	kept, err = p.Recipient(ctx, "duty")
	require.NoError(t, err)
	kept.Kind, kept.Address = tell.Syslog, "logs.larkmoor.example:6514"
	kept, err = p.Messages.Save(ctx, ines, kept, secret.Value{})
	require.NoError(t, err)
	assert.False(t, kept.Secret)
	assert.Empty(t, kept.Sealed)
}

func TestRemovedOnesAreToldSo(t *testing.T) {
	p := newPost(t)
	ctx := t.Context()
	v := p.add(records.Recipient{Name: "duty"})
	p.add(records.Recipient{Name: "watch"})
	p.tick()
	p.got = map[string][]tell.Message{}
	require.ErrorIs(t, p.Messages.Remove(ctx, ines, "duty", v.Revision+1), records.ErrStale)
	assert.Empty(t, p.got)
	require.NoError(t, p.Messages.Remove(ctx, ines, "duty", v.Revision))
	require.Len(t, p.got["duty"], 1)
	assert.Contains(t, p.got["duty"][0].Events[0].Text, "was removed")
	p.now = p.now.Add(time.Second)
	p.tick()
	assert.Equal(t, []string{"recipient.remove duty"}, p.heard("watch"), "and others too")
	assert.Contains(t, p.got["watch"][0].Events[0].Detail, "it was told of that: taken")
	require.ErrorIs(t, p.Messages.Remove(ctx, ines, "duty", 1), records.ErrNotFound)

	// One that is away is removed all the same, and that it was not told is written.
	p.away["watch"] = errors.New("no route to host")
	watch, err := p.Recipient(ctx, "watch")
	require.NoError(t, err)
	require.NoError(t, p.Messages.Remove(ctx, ines, "watch", watch.Revision))
	page, err := p.LedgerList(ctx, records.Query{Filters: []string{"act=recipient.remove"}, Limit: 1})
	require.NoError(t, err)
	assert.Contains(t, page.Items[0].Detail, "could not be told of that: no route to host")
}

func TestChangesAreWritten(t *testing.T) {
	p := newPost(t)
	ctx := t.Context()
	v := p.add(records.Recipient{Name: "duty"})
	v.Least, v.Events = "error", []string{"rotation.*", "finding.raised", "rotation.*"}
	v = p.change(v)
	assert.Equal(t, []string{"finding.raised", "rotation.*"}, v.Events)
	stale := v
	stale.Revision--
	_, err := p.Messages.Save(ctx, ines, stale, secret.Value{})
	require.ErrorIs(t, err, records.ErrStale)
	page, err := p.LedgerList(ctx, records.Query{Filters: []string{"act=recipient.save"}, Limit: 10})
	require.NoError(t, err)
	require.Len(t, page.Items, 2)
	var words []string
	for _, c := range page.Items[0].Changes {
		words = append(words, c.Field+" "+c.From+" > "+c.To)
	}
	assert.Equal(t, []string{"events  > finding.raised, rotation.*", "least warning > error"}, words)
	for _, e := range page.Items {
		for _, c := range e.Changes {
			assert.False(t, strings.Contains(c.From+c.To, "the-key-of"), c.Field)
		}
	}
}

// testCA proves nobody here.
const testCA = `-----BEGIN CERTIFICATE-----
MIIBfTCCASOgAwIBAgIUTTiEqrxNAz2uw+jgSFmBh4m/ogUwCgYIKoZIzj0EAwIw
FDESMBAGA1UEAwwJcXVheS10ZXN0MB4XDTI2MTEyOTAwMTU0NFoXDTM2MTEyNjAw
MTU0NFowFDESMBAGA1UEAwwJcXVheS10ZXN0MFkwEwYHKoZIzj0CAQYIKoZIzj0D
AQcDQgAE7wqf5S/6W1wJpjWeuoow/eSpDBvmj4veze0VvA03xKhg2Nt+pjxAH1oU
bewFwsMrYWY90Hier/QnnrWzCIA6p6NTMFEwHQYDVR0OBBYEFLEY0CKW92q69r2r
47yujytQF/6lMB8GA1UdIwQYMBaAFLEY0CKW92q69r2r47yujytQF/6lMA8GA1Ud
EwEB/wQFMAMBAf8wCgYIKoZIzj0EAwIDSAAwRQIhAPdpZCky5sXo0ETychTV9V4o
QX7YSRFnHZM8bcQ53nxQAiAArax5l1gPKOmiBrcFI5JqAvgcR2Ie4U9xzF8qwgFk
8A==
-----END CERTIFICATE-----`
