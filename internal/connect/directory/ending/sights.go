package ending

import "mossledger.example/moss/internal/core/expiry"

// What a directory of the windows schema says to a bind it says in a number ([MS-ERREF],
// section 2.2, in hexadecimal; [MS-ADTS], section 5.1.1), and what a windows host says of a
// service that it cannot log on is another one of the same list, in decimal.
var windowsRefusals = map[string]struct{ bind, service string }{
	"ended":    {"AcceptSecurityContext error, data 701", "1793: the user's account has expired"},
	"change":   {"AcceptSecurityContext error, data 773", "1907: the user's password must be changed before signing in"},
	"disabled": {"AcceptSecurityContext error, data 533", "1331: the account is currently disabled"},
	"gone":     {"Invalid Credentials", "1326: the user name or password is incorrect"},
}

// caseOf is which refusal a change brings about; "" for none.
func caseOf(c expiry.EndChange) string {
	switch {
	case c.Act == expiry.Disable:
		return "disabled"
	case c.Act == expiry.Delete:
		return "gone"
	case c.Act == expiry.Enable || c.End.State == expiry.Never && c.Act != expiry.Expire:
		return ""
	case c.Of == expiry.Password:
		return "change"
	}
	return "ended"
}

func windowsSights(c expiry.EndChange) []expiry.Sight {
	r, found := windowsRefusals[caseOf(c)]
	if !found {
		return nil
	}
	return []expiry.Sight{
		{Way: expiry.SignsIn, When: "at its next sign-in", Stops: true, Words: r.bind},
		{Way: expiry.LogsOn, When: "at its next start", Stops: true, Words: r.service},
		{Way: expiry.RunsUnit, When: "goes on: its host does not ask the directory when it starts a unit"},
		{Way: expiry.Open, When: "goes on, and with a ticket until that ends: ten hours where nobody set another time"},
	}
}

func plainSights(c expiry.EndChange) []expiry.Sight {
	words := map[string]string{
		"ended": "Account locked", "disabled": "Account locked", "change": "Password must be changed", "gone": "Invalid Credentials",
	}[caseOf(c)]
	if words == "" {
		return nil
	}
	return []expiry.Sight{
		{Way: expiry.SignsIn, When: "at its next bind", Stops: true, Words: words},
		{Way: expiry.RunsUnit, When: "goes on: its host does not ask the directory when it starts a unit"},
		{Way: expiry.Open, When: "goes on until it is closed"},
	}
}
