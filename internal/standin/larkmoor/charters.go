package larkmoor

// Charters are what Larkmoor Ferries says that accounts of its roles need, by file name.
var Charters = map[string]string{
	"fuelcard-reader.yaml": `charter: fuelcard-reader
description: Reads fuel cards at the pumps, and restarts its own service.
label: fuelcard-reader
must:
  - member_of: cardreaders
    because: the reader's device belongs to this group
  - run: /usr/bin/systemctl restart fuelcard.service
    systems: [kind:unix-host]
may:
  - run: /usr/bin/systemctl stop fuelcard.service
never:
  - run: ALL
  - do: everything
account:
  enabled: true
`,
	"manifest-import.yaml": `charter: manifest-import
description: Imports the manifests of the night, and reloads what shows them.
label: manifest-import
must:
  - run: /usr/bin/systemctl reload manifest.service
    systems: [kind:unix-host]
never:
  - run: ALL
    because: it was given everything one night, until Monday
  - do: everything
`,
	"terminal-service.yaml": `charter: terminal-service
description: What the services of the terminals log on as.
label: terminal-service
must:
  - member_of: Terminal Services
  - do: sign in
    what: as a service
    systems: [kind:windows-host]
    because: services log on as it
never:
  - do: debug programs
    systems: [kind:windows-host]
    because: whoever debugs a program has what it has
  - member_of: Domain Admins
  - do: reset password
    to: account:*
    because: whoever resets a password has the account
  - do: replicate secrets
account:
  enabled: true
  password_changed_within: 90
`,
	"monthly-reports.yaml": `charter: monthly-reports
description: Reads bookings for the reports of the month, and changes nothing.
label: monthly-reports
must:
  - member_of: bookings_reader
never:
  - {do: insert, to: "table:*"}
  - {do: update, to: "table:*", because: payments are corrected by the clearing alone}
  - {do: delete, to: "table:*"}
  - do: everything
  - do: manage roles
`,
}

// Labelled are the accounts that the charters are for, by label.
var Labelled = map[string][]string{
	"fuelcard-reader":  {"bookings1/svc-fuelcard"},
	"manifest-import":  {"bookings1/manifest"},
	"terminal-service": {"larkmoor-directory/svc-berth", "larkmoor-directory/svc-gangway", "larkmoor-directory/svc-quayline", "larkmoor-directory/svc-terminal"},
	"monthly-reports":  {"bookings-db/svc_reports"},
}

// Reorganise makes the groups of the hosts anew, and forgets one: the fuel card reader, which
// runs, will not start again.
func (e *Estate) Reorganise() { e.Hosts["bookings1"].SetGroups("svc-fuelcard") }
