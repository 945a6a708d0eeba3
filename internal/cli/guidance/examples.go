package guidance

import (
	"strings"

	"github.com/spf13/cobra"
)

// Examples of commands whose help has none of its own, by their paths. Every line is
// tried by a test: it must be one that the command takes.
var Examples = map[string]string{ //nolint:gosec // how commands are written, no secrets
	"account list":           "moss account list --filter built_in=no --sort -dependents\nmoss account list -f never_expires=yes -f enabled=yes -o csv",
	"account resolve":        "moss account resolve 'LARKMOOR\\svc-berth' svc-berth@larkmoor.example",
	"approval approve":       "moss approval approve 3 --reason 'checked with Odile'",
	"approval list":          "moss approval list --filter state=asked",
	"approval refuse":        "moss approval refuse 3 --reason 'nobody asked for this change'",
	"approval show":          "moss approval show 3",
	"change list":            "moss change list --since 7d\nmoss change list --since 12 --until 15 --net\nmoss change list --filter subject=account --filter what=new --filter custody=no",
	"change show":            "moss change show 31",
	"credential list":        "moss credential list --filter state=custody --sort rotated\nmoss credential list -f kind=ssh-key -f locations=0",
	"custody release":        "moss custody release svc-berth --reason 'the application is gone'",
	"custody take":           "moss custody take svc-berth --password-file -\nmoss custody take svc-berth --reset --reason 'nobody knows it'\nmoss custody take backup@tide1",
	"custody verify":         "moss custody verify svc-berth\nmoss custody verify --all",
	"dependent list":         "moss dependent list --account svc-berth\nmoss dependent list --group-by account -o csv\nmoss dependent list --filter kind=file --search password",
	"finding list":           "moss finding list --filter severity=high\nmoss finding list --watch",
	"label drop":             "moss label drop svc-berth rotate-90 --reason 'moved to another team'",
	"label list":             "moss label list\nmoss label list svc-berth",
	"label put":              "moss label put svc-berth rotate-90 --reason 'asked for by the harbour office'",
	"ledger list":            "moss ledger list --filter actor=ines --limit 20\nmoss ledger list -f act=rotation.start -o json",
	"logout":                 "moss logout",
	"radius":                 "moss radius svc-berth\nmoss radius svc-berth --evidence held",
	"rotate go-on":           "moss rotate go-on 7 --reason 'tide1 is being replaced'",
	"rotate list":            "moss rotate list --filter mode=running --watch\nmoss rotate list -f result=undone --sort -started",
	"rotate look":            "moss rotate look 7",
	"rotate rehearse":        "moss rotate rehearse svc-berth\nmoss rotate rehearse svc-berth --on-failure stop --restart window --window 2026-11-30T02:00:00Z/2h",
	"rotate repair":          "moss rotate repair svc-terminal --reason 'the boats are out'",
	"rotate resume":          "moss rotate resume 7 --reason 'tide1 is back'",
	"rotate run":             "moss rotate run svc-berth --reason 'due'\nmoss rotate run svc-berth --reason 'due' -o json --quiet",
	"rotate show":            "moss rotate show 7\nmoss rotate show 7 --journal",
	"rotate stop":            "moss rotate stop 7 --reason 'wait for the morning'",
	"rotate undo":            "moss rotate undo 7 --rehearse\nmoss rotate undo 7 --reason 'the vendor needs the old one' --yes",
	"rule add":               "moss rule add by-name --label service --when 'account.name.startsWith(\"svc-\")'\nmoss rule add not-the-payroll --label rotate-90 --exclude --when 'account.dn.contains(\",OU=Payroll,\")'",
	"rule change":            "moss rule change by-name --when 'account.name.startsWith(\"svc-\") && system.environment == \"production\"'",
	"rule fields":            "moss rule fields",
	"rule list":              "moss rule list --filter label=rotate-90",
	"rule preview":           "moss rule preview by-name --label service --when 'dependents.exists(d, d.kind == \"service\")'",
	"rule remove":            "moss rule remove by-name",
	"rule show":              "moss rule show by-name",
	"schedule duties":        "moss schedule duties",
	"schedule list":          "moss schedule list --filter state=failed\nmoss schedule list --filter policy=nightly --sort next",
	"schedule nights":        "moss schedule nights --days 90",
	"freeze":                 "moss freeze --reason 'the ticket system moves tonight'\nmoss freeze",
	"thaw":                   "moss thaw --reason 'the ticket system has moved'",
	"order add":              "moss order add gauges --group 'tide*/gauge*' --at-once 2\nmoss order add bookings --sequence 'bookings1/*' --sequence 'quay*/*'",
	"order change":           "moss order change gauges --at-once 3",
	"order list":             "moss order list",
	"order remove":           "moss order remove gauges --yes",
	"policy add":             "moss policy add nightly --label rotate-30 --every 30d --window nights --first-alone\nmoss policy add first-sunday --label boats --rule 'FREQ=MONTHLY;BYDAY=1SU' --begins 2026-12-06T00:00 --zone Europe/Oslo --spread 7",
	"policy change":          "moss policy change nightly --every 60d\nmoss policy change nightly --pause",
	"policy list":            "moss policy list",
	"policy remove":          "moss policy remove nightly",
	"policy show":            "moss policy show nightly",
	"policy why":             "moss policy why svc-berth",
	"window add":             "moss window add nights --at 22:00 --for 4h --zone Europe/Oslo\nmoss window add sundays --rule 'FREQ=MONTHLY;BYDAY=2SU' --begins 2026-12-13T02:00 --for 2h --zone UTC --system north1",
	"window change":          "moss window change nights --days mon,tue,wed,thu\nmoss window change nights --label boats --label piers",
	"window list":            "moss window list",
	"window remove":          "moss window remove nights --yes",
	"window show":            "moss window show nights",
	"search":                 "moss search berth\nmoss search tide backup",
	"session end":            "moss session end 9f2c64d0a1b2c3d4",
	"session list":           "moss session list",
	"socket list":            "moss socket list --filter system=quay1 --filter listens=yes",
	"steward change":         "moss steward change hosts --key-file ~/.ssh/moss-2",
	"steward list":           "moss steward list",
	"steward remove":         "moss steward remove terminals",
	"survey cancel":          "moss survey cancel 4",
	"survey list":            "moss survey list --limit 5 --sort -id",
	"survey run":             "moss survey run\nmoss survey run quay1 quay2",
	"survey show":            "moss survey show 4\nmoss survey show 4 --problems",
	"system add":             "moss system add quay1 --steward hosts\nmoss system add dir --kind directory --address dc1.larkmoor.example --steward directory --ca-file ca.pem",
	"system change":          "moss system change quay1 --address quay1.larkmoor.example --owner 'harbour office'",
	"system check":           "moss system check quay1\nmoss system check --all\nmoss system check quay1 --approve SHA256:Zk3fQ9...",
	"system confirm-absence": "moss system confirm-absence quay1 --reason 'its applications moved to quay2'",
	"system kinds":           "moss system kinds\nmoss system kinds directory",
	"system list":            "moss system list --filter state=failed\nmoss system list --columns name,kind,steward,read_completely",
	"system option list":     "moss system option list",
	"system option remove":   "moss system option remove 2",
	"system remove":          "moss system remove dock9",
	"system show":            "moss system show quay1",
	"token add":              "moss token add 'nightly report'",
	"token list":             "moss token list",
	"token revoke":           "moss token revoke 5",
	"use import":             "moss use import auth.json --system larkmoor-directory",
	"use list":               "moss use list svc-berth",
	"use withdraw":           "moss use withdraw 2",
	"user add":               "moss user add odile --role approver --password-file odile.pw",
	"user change":            "moss user change odile --role approver --role auditor\nmoss user change odile --disable",
	"user list":              "moss user list",
	"user password":          "moss user password",
}

// exemplified gives every command its example.
func exemplified(root *cobra.Command) {
	Each(root, func(cmd *cobra.Command) {
		path := strings.TrimPrefix(cmd.CommandPath(), root.Name()+" ")
		if text := Examples[path]; text != "" && cmd.Example == "" {
			cmd.Example = "  " + strings.ReplaceAll(text, "\n", "\n  ")
		}
	})
}
