package e2e

import (
	"os"
	"strings"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/require"
)

// What commands print with -o json has the shapes that docs/openapi.json gives as
// JSON Schema: a list is an array of the list's items, a thing is that thing. A
// validator that knows nothing of us judges it.
func TestOutputHasItsSchema(t *testing.T) {
	t.Parallel()
	d, u := startDemo(t)
	raw, err := os.Open("../../docs/openapi.json")
	require.NoError(t, err)
	defer raw.Close()
	document, err := jsonschema.UnmarshalJSON(raw)
	require.NoError(t, err)
	compiler := jsonschema.NewCompiler()
	compiler.DefaultDraft(jsonschema.Draft2020) // OpenAPI 3.1
	compiler.AssertFormat()
	require.NoError(t, compiler.AddResource("openapi.json", document))

	u.moss(0, "rotate", "rehearse", "svc-berth")
	u.moss(0, "rotate", "run", "svc-berth", "--reason", "shapes")
	u.moss(0, "token", "add", "shapes")
	u.moss(0, "rule", "add", "shapes", "--label", "shapes", "--when", "account.custody", "--yes")
	u.moss(0, "window", "add", "nights", "--at", "22:00", "--for", "4h", "--zone", "Europe/Oslo", "--system", "north1")
	u.moss(0, "policy", "add", "monthly", "--every", "30d", "--window", "nights", "--yes")
	u.moss(0, "order", "add", "berths", "--group", "quay*/berth*")
	for _, name := range []string{"fares_a", "fares_b"} {
		u.moss(0, "custody", "take", "bookings-db/"+name, "--password-file", d.File(name+".pw"))
	}
	u.moss(0, "tandem", "add", "bookings-db/fares_a", "bookings-db/fares_b")
	u.moss(0, "requirement", "add", "wide", "--restarts", "500")
	u.moss(0, "notify", "add", "trail", "--syslog", "127.0.0.1:9", "--least", "informational")
	u.moss(0, "rotate", "run", "--filter", "name=svc_tides", "--reason", "shapes")
	require.Eventually(t, func() bool { return strings.Contains(u.moss(0, "notify", "messages"), "trail") }, time.Minute, time.Second)
	require.Eventually(t, func() bool { return strings.Contains(u.moss(0, "schedule", "list"), "monthly") }, 90*time.Second, time.Second)
	for line, schema := range map[string]string{
		"account list": "Account", "credential list": "Credential", "dependent list": "Dependent", "system list": "System", "finding list --all": "Finding",
		"steward list": "Steward", "survey list": "Survey", "rotate list": "Rotation", "socket list": "SocketOf", "ledger list": "Entry", "user list": "User", "token list": "Token",
		"approval list": "Approval", "change list": "SeenChange", "change list --net": "SeenChange", "rule list": "Rule", "rule fields": "Question", "label list": "Label", "label list larkmoor-directory/svc-berth": "AccountLabel", "schedule duties": "Planned", "schedule list": "Turn", "schedule nights --days 40": "Night", "policy list": "Policy", "window list": "WindowNow", "order list": "Order", "tandem list": "Tandem", "batch list": "Batch", "requirement list": "Requirement", "notify list": "Recipient", "notify messages": "Message", "notify events": "EventName", "system kinds": "Description",
	} {
		item, err := compiler.Compile("openapi.json#/components/schemas/" + schema)
		require.NoError(t, err, schema)
		out := u.moss(0, append(strings.Fields(line), "-o", "json")...)
		value, err := jsonschema.UnmarshalJSON(strings.NewReader(out))
		require.NoError(t, err, line)
		list, is := value.([]any)
		require.True(t, is, "%s prints an array", line)
		if line != "approval list" {
			require.NotEmpty(t, list, line)
		}
		for _, v := range list {
			require.NoError(t, item.Validate(v), line)
		}
	}
	for line, schema := range map[string]string{"account show svc-berth": "AccountDetail", "change show 1": "SeenChange", "rule show shapes": "Rule", "window show nights": "WindowNow", "policy show monthly": "Policy", "policy why svc-berth": "Why", "freeze": "Freeze", "batch show 1": "Batch", "requirement show wide": "Requirement", "notify show trail": "Recipient", "report rotation 1": "RotationReport", "report batch 1": "BatchReport", "system show quay1": "System", "rotate show 1": "RotationNow", "credential show svc-berth": "CredentialDetail", "radius svc-berth": "Radius"} {
		thing, err := compiler.Compile("openapi.json#/components/schemas/" + schema)
		require.NoError(t, err, schema)
		value, err := jsonschema.UnmarshalJSON(strings.NewReader(u.moss(0, append(strings.Fields(line), "-o", "json")...)))
		require.NoError(t, err, line)
		require.NoError(t, thing.Validate(value), line)
	}
}
