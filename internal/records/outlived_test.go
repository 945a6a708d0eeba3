package records

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"mossledger.example/moss/internal/core/expiry"
)

// A command that somebody copies has nothing in it that a system said and a shell would act on.
func TestCommandsOfWhatHasOutlived(t *testing.T) {
	key := Outlived{What: expiry.Key, Name: "x", System: "quay1", Kind: "unix-host", AccountID: 7, DependentID: 9, KeyID: "SHA256:Zk3f/+9=", Remedy: expiry.RemedyDelete}
	assert.Equal(t, "moss credential delete SHA256:Zk3f/+9= --on quay1 --watch 30d", key.Told().Command)
	key.Remedy = expiry.RemedyRotate
	assert.Equal(t, "moss rotate rehearse SHA256:Zk3f/+9=", key.Told().Command)
	issued := Outlived{What: expiry.Key, System: "feeds", Kind: "cloud-project", AccountID: 7, DependentID: 9, KeyID: "3fQx_-", Remedy: expiry.RemedyDisable}
	assert.Equal(t, "moss credential disable id:7 --key 3fQx_-", issued.Told().Command)
	for _, said := range []string{"$(reboot)", "a;b", "-o", "a b", "", "a\nb", "`x`"} {
		issued.KeyID = said
		assert.Equal(t, "moss dependent show 9", issued.Told().Command, said)
	}
	account := Outlived{What: expiry.Account, Name: "$(reboot)", System: "quay 1", AccountID: 7, Remedy: expiry.RemedyLook}
	assert.Equal(t, "moss account show id:7", account.Told().Command)
}
