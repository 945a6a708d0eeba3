// Package accounts makes accounts of the entries of a directory, by the attributes of its
// schema.
package accounts

import (
	"slices"
	"strconv"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"mossledger.example/moss/internal/connect/directory/values"
	"mossledger.example/moss/internal/core/estate"
)

// WindowsAttributes are those that Windows-domain accounts are made of.
var WindowsAttributes = []string{
	"objectClass", "objectGUID", "objectSid", "sAMAccountName", "userPrincipalName", "displayName", "description",
	"userAccountControl", "msDS-User-Account-Control-Computed", "msDS-UserPasswordExpiryTimeComputed", "pwdLastSet",
	"accountExpires", "lastLogonTimestamp", "lockoutTime", "memberOf", "primaryGroupID", "servicePrincipalName", "managedBy", "msDS-KeyVersionNumber", "sIDHistory",
}

// PlainAttributes are those of accounts of other directories.
var PlainAttributes = []string{
	"objectClass", "entryUUID", "uid", "cn", "displayName", "description", "manager", "uidNumber", "gidNumber", "homeDirectory", "loginShell",
	"pwdPolicySubentry", "pwdChangedTime", "pwdAccountLockedTime", "pwdReset", "pwdEndTime", "pwdLastSuccess", "krbPrincipalName",
}

// Bits of userAccountControl.
const (
	uacDisabled     = 0x2
	uacNeverExpires = 0x10000
	uacLocked       = 0x10 // of the computed attribute
)

// Windows reads an account of the windows schema; what it says is why it cannot be told apart
// from others, "" when it can.
func Windows(e *ldap.Entry) (estate.Account, string) {
	a := estate.Account{
		StableID: values.GUIDText(e.GetRawAttributeValue("objectGUID")), DN: e.DN,
		Name: e.GetAttributeValue("sAMAccountName"), UPN: e.GetAttributeValue("userPrincipalName"),
		SID: values.SIDText(e.GetRawAttributeValue("objectSid")), DisplayName: e.GetAttributeValue("displayName"),
		Description: e.GetAttributeValue("description"), Owner: e.GetAttributeValue("managedBy"),
		Principals: e.GetAttributeValues("servicePrincipalName"),
		Type:       "user", Enabled: estate.Unknown, Locked: estate.Unknown,
		PasswordChanged: values.FileTime(e.GetAttributeValue("pwdLastSet")),
		AccountExpires:  values.FileTime(e.GetAttributeValue("accountExpires")),
		LastLogOn:       values.FileTime(e.GetAttributeValue("lastLogonTimestamp")),
		PasswordExpires: values.FileTime(e.GetAttributeValue("msDS-UserPasswordExpiryTimeComputed")),
		MustChange:      e.GetAttributeValue("pwdLastSet") == "0",
	}
	a.KeyVersion, _ = strconv.Atoi(e.GetAttributeValue("msDS-KeyVersionNumber"))
	for _, raw := range e.GetRawAttributeValues("sIDHistory") {
		if sid := values.SIDText(raw); sid != "" {
			a.FormerSIDs = append(a.FormerSIDs, sid)
		}
	}
	slices.Sort(a.FormerSIDs)
	for _, class := range e.GetAttributeValues("objectClass") {
		switch strings.ToLower(class) {
		case "computer":
			if a.Type != "managed" {
				a.Type = "computer"
			}
		case "msds-groupmanagedserviceaccount", "msds-managedserviceaccount":
			a.Type = "managed"
		}
	}
	if uac, err := strconv.ParseInt(e.GetAttributeValue("userAccountControl"), 10, 64); err == nil {
		a.Enabled = estate.Known(uac&uacDisabled == 0)
		a.NeverExpire = uac&uacNeverExpires != 0
		// A password that never expires need not be changed either, whatever
		// pwdLastSet says ([MS-ADTS] 5.1.3.4 tells expiry from both).
		a.MustChange = a.MustChange && !a.NeverExpire
	}
	if computed, err := strconv.ParseInt(e.GetAttributeValue("msDS-User-Account-Control-Computed"), 10, 64); err == nil {
		a.Locked = estate.Known(computed&uacLocked != 0)
	}
	if a.StableID == "" || a.Name == "" {
		return a, "its objectGUID or sAMAccountName cannot be read"
	}
	return a, ""
}

// RFC reads one of another schema, as Windows does.
func RFC(e *ldap.Entry) (estate.Account, string) {
	a := estate.Account{
		StableID: e.GetAttributeValue("entryUUID"), DN: e.DN, Name: e.GetAttributeValue("uid"),
		DisplayName: e.GetAttributeValue("displayName"), Description: e.GetAttributeValue("description"),
		Owner: e.GetAttributeValue("manager"), Principals: e.GetAttributeValues("krbPrincipalName"), Type: "user",
		Home: e.GetAttributeValue("homeDirectory"), Shell: e.GetAttributeValue("loginShell"), UID: e.GetAttributeValue("uidNumber"),
		Enabled: estate.Yes, Locked: estate.Unknown,
		PasswordChanged: values.GeneralizedTime(e.GetAttributeValue("pwdChangedTime")),
		AccountExpires:  values.GeneralizedTime(e.GetAttributeValue("pwdEndTime")),
		LastLogOn:       values.GeneralizedTime(e.GetAttributeValue("pwdLastSuccess")),
		MustChange:      e.GetAttributeValue("pwdReset") == "TRUE",
	}
	// Its own name is the one that its relative name has; an attribute may have
	// more values than that.
	if uids := len(e.GetAttributeValues("uid")); uids != 1 {
		a.Name = relativeName(e.DN, a.Name, e.GetAttributeValue("cn"))
	}
	if a.StableID == "" || a.Name == "" {
		return a, "its entryUUID or name cannot be read"
	}
	return a, ""
}

// relativeName is the value of the relative name: of its uid, else of its first
// attribute; the others when the name cannot be read.
func relativeName(dn string, otherwise ...string) string {
	parsed, err := ldap.ParseDN(dn)
	if err == nil && len(parsed.RDNs) > 0 && len(parsed.RDNs[0].Attributes) > 0 {
		own := parsed.RDNs[0].Attributes
		for _, a := range own {
			if strings.EqualFold(a.Type, "uid") || strings.EqualFold(a.Type, "userid") {
				return a.Value
			}
		}
		if otherwise[0] == "" { // a uid elsewhere is still a better name
			return own[0].Value
		}
	}
	for _, name := range otherwise {
		if name != "" {
			return name
		}
	}
	return ""
}
