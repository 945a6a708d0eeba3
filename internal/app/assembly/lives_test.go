package assembly_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/expiry"
	"mossledger.example/moss/internal/records"
	"mossledger.example/moss/internal/standin/cloud"
	standindir "mossledger.example/moss/internal/standin/directory"
	"mossledger.example/moss/internal/standin/larkmoor"
)

// outlived are what has outlived its purpose, by system and name.
func (f *ferry) outlived() map[string]records.Outlived {
	f.t.Helper()
	require.NoError(f.t, f.Lives.Judge(f.t.Context()))
	page, err := f.Store.Outlived(f.t.Context(), records.Query{Limit: 500})
	require.NoError(f.t, err)
	out := map[string]records.Outlived{}
	last := 100
	for _, v := range page.Items {
		assert.LessOrEqual(f.t, v.Points, last, "what has most comes first")
		last = v.Points
		assert.NotEmpty(f.t, v.Reasons)
		name, _, _ := strings.Cut(v.Name, " ")
		out[v.System+"/"+name+"/"+string(v.What)] = v
	}
	return out
}

// What is ranked is what is not needed any more: it is there once it is so, and gone once it is
// not, and each has the command that ends it safely.
func TestWhatHasOutlivedIsRanked(t *testing.T) {
	by := &clock{}
	f := withFeedsBy(t, by)
	f.survey("tide1", "bookings1", "quay1")
	for name := range f.outlived() {
		assert.NotContains(t, name, "quay1/berth/account", "what services run as without a password is needed")
	}
	trial := f.account("feeds/fares-trial")
	unused := f.outlived()["feeds/fares-trial/account"]
	assert.Equal(t, "not used for 210 days; nothing is known that depends on it", strings.Join(unused.Reasons, "; "))
	f.estate.Feeds.Change("114004", func(v *cloud.Identity) { v.Disabled = true })
	f.survey("feeds")
	is := f.outlived()["feeds/fares-trial/account"]
	assert.Equal(t, []any{expiry.RemedyDelete, trial.ID}, []any{is.Remedy, is.AccountID})
	assert.Equal(t, "moss credential delete id:"+trial.ID.String()+" --watch 30d", is.Command)
	assert.Contains(t, strings.Join(is.Reasons, "; "), "it is disabled; nothing is known that depends on it")
	assert.Greater(t, is.Points, unused.Points)
	key := f.outlived()["feeds/fares-trial/key"]
	assert.Equal(t, expiry.RemedyDelete, key.Remedy)
	assert.Contains(t, key.Command, "--key "+key.KeyID)

	// A departed administrator, whose account something still logs on with: that is looked at.
	f.estate.Directory.Update(larkmoor.DN("svc-gangway"), func(e *standindir.Entry) { e.Disabled = true })
	f.survey("dir")
	gangway := f.outlived()["dir/svc-gangway/account"]
	assert.Equal(t, expiry.RemedyLook, gangway.Remedy, "%+v", gangway)

	// The owner of one is disabled, which is told of whoever answers for it.
	owner := f.account("odile.kern")
	f.estate.Directory.Update(larkmoor.DN("svc-manifest"), func(e *standindir.Entry) { e.Attributes["managedBy"] = []string{owner.DN} })
	f.survey("dir")
	assert.Contains(t, strings.Join(f.outlived()["dir/svc-manifest/account"].Reasons, "; "), "its owner odile.kern is gone or disabled")

	f.estate.Feeds.Change("114004", func(v *cloud.Identity) { v.Disabled = false })
	f.estate.Feeds.Used("114004", key.KeyID, time.Now().Add(-time.Hour))
	f.survey("feeds")
	now := f.outlived()
	assert.NotContains(t, now, "feeds/fares-trial/account")
	assert.NotContains(t, now, "feeds/fares-trial/key")

	// Years pass, and nobody is surveyed: what was used lately is not any more.
	before := len(f.outlived())
	by.pass(800 * 24 * time.Hour)
	assert.Greater(t, len(f.outlived()), before)
}
