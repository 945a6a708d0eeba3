package lab_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/connect/directory"
	"mossledger.example/moss/internal/lab"
)

// A real domain tells whom it trusts, and which identifiers an account had before.
func TestTrustsAndFormerIdentifiers(t *testing.T) {
	samba := lab.Samba(t, "127.0.0.86", "svc-moved")
	const pilots, former = "S-1-5-21-1004336348-1177238915-682003330", "S-1-5-21-1004336348-1177238915-682003330-1113"
	samba.Create(t, "dn: CN=pilots.example,CN=System,"+samba.Base+"\nobjectClass: trustedDomain\nflatName: PILOTS\ntrustPartner: pilots.example\nsecurityIdentifier: "+pilots+"\ntrustDirection: 3\ntrustType: 2\ntrustAttributes: 8\n\n"+
		"dn: CN=inbound.example,CN=System,"+samba.Base+"\nobjectClass: trustedDomain\nflatName: INBOUND\ntrustPartner: inbound.example\nsecurityIdentifier: S-1-5-21-1-2-3"+"\ntrustDirection: 1\ntrustType: 2\ntrustAttributes: 8\n")
	samba.Alter(t, "dn: "+samba.DN("svc-moved")+"\nchangetype: modify\nadd: sIDHistory\nsIDHistory: "+former+"\n")
	target := samba.Target("samba")
	report := directory.Connector{}.Check(t.Context(), target)
	require.True(t, report.OK(), "%+v", report.Stages)
	require.Len(t, report.Facts.Trusts, 1, "one that only trusts us lets nobody in here")
	assert.Equal(t, []string{"PILOTS", "pilots.example"}, report.Facts.Trusts[0].Names)
	assert.Equal(t, pilots, report.Facts.Trusts[0].SID)
	accounts, _, _ := readDirectory(t, target)
	assert.Equal(t, []string{former}, accounts["svc-moved"].FormerSIDs)
}
