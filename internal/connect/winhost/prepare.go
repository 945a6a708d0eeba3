package winhost

import (
	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/winhost/rights"
	"mossledger.example/moss/internal/core/privilege"
)

// Prepare implements connect.Preparer; docs/windows.md says the same with its reasons.
func (Connector) Prepare(target connect.Target, _ connect.Known) []connect.Preparation {
	steward, address := connect.PlainName(target.Steward.Account, `LARKMOOR\mossmgr`), connect.PlainName(target.Address, connect.PlainName(target.Name, ""))
	where := "in an elevated PowerShell on " + target.Name
	return []connect.Preparation{
		{For: connect.ForSignIn, What: "a certificate with the name of the host, the listener that has it, and the way through", Where: where, Language: "powershell", Text: "$c = (Get-Certificate -Template WebServer -DnsName " + address + " -CertStoreLocation Cert:\\LocalMachine\\My).Certificate\nSet-Service WinRM -StartupType Automatic; Start-Service WinRM\nNew-Item WSMan:\\localhost\\Listener -Transport HTTPS -Address * -CertificateThumbPrint $c.Thumbprint -Force\nNew-NetFirewallRule -DisplayName 'WS-Management HTTPS' -Direction Inbound -Protocol TCP -LocalPort 5986 -RemoteAddress PUT-THE-ADDRESS-OF-MOSS-LEDGER-HERE -Action Allow\n"},
		{For: connect.ForRotate, What: "to read all, change log-ons and restart services: a member of the local administrators. Not on a domain controller", Where: where, Language: "powershell", Text: "Add-LocalGroupMember -Group Administrators -Member '" + steward + "'\n"},
	}
}

// Propose implements connect.Proposer.
func (Connector) Propose(target connect.Target, c privilege.RightChange) (connect.Proposal, string) {
	return rights.Propose(target.Name, c)
}
