package rights

import (
	"context"
	"strings"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/core/privilege"
)

// unitProperties are what a unit gives those whom it runs as, or takes (systemd.exec(5)).
const unitProperties = "Id,User,Group,SupplementaryGroups,AmbientCapabilities,NoNewPrivileges"

// units reads what services give to the account that they run as: capabilities and
// further groups. Nobody else has these by it.
func (h *host) units(ctx context.Context) *connect.Failure {
	raw, failure := h.Output(ctx, connect.StageRead, "/usr/bin/systemctl", "show", "--no-pager", "-p", unitProperties+","+fileProperties, "--", "*.service")
	if failure != nil {
		return failure
	}
	h.shown = string(raw)
	h.unitsOf(h.shown)
	return nil
}

func (h *host) unitsOf(text string) {
	for block := range strings.SplitSeq(text, "\n\n") {
		p := map[string]string{}
		for line := range strings.Lines(block) {
			name, value, _ := strings.Cut(strings.TrimRight(line, "\n"), "=")
			p[name] = value
		}
		id := h.byName[p["User"]]
		if id == "" {
			id = h.byUID[p["User"]]
		}
		if id == "" || p["Id"] == "" || id == h.byUID["0"] {
			continue
		}
		term := "only in " + p["Id"]
		for _, group := range append(strings.Fields(p["SupplementaryGroups"]), p["Group"]) {
			to := h.groups[group]
			if to == "" {
				to = h.byGID[group]
			}
			if to != "" && !h.isMember(id, to) {
				h.member(id, to, "", term)
			}
		}
		l := privilege.List{Key: "unit:" + p["Id"], Decides: privilege.DecidesAny, Objects: []privilege.Object{{Kind: "unit", Name: p["Id"]}}}
		for capability := range strings.FieldsSeq(p["AmbientCapabilities"]) {
			l.Entries = append(l.Entries, privilege.Entry{To: id, Verb: "has capability", What: strings.ToUpper(capability), Terms: []string{term}, Text: "AmbientCapabilities=" + capability, Source: p["Id"]})
		}
		if len(l.Entries) > 0 {
			h.Lists = append(h.Lists, l)
		}
	}
}

func (h *host) isMember(id, group string) bool {
	for _, m := range h.Memberships {
		if m.Member == id && m.Group == group {
			return true
		}
	}
	return false
}
