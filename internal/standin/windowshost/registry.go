package windowshost

import (
	"strconv"
	"strings"

	"mossledger.example/moss/internal/standin/windowshost/wql"
)

// codeAccessDenied is what the methods of a service return to whom its descriptor does
// not let do that.
const codeAccessDenied = 2

const servicesKey = `SYSTEM\CurrentControlSet\Services`

// shown: the service's own descriptor shows it to whom is asking.
func (h *Host) shown(s *Service) bool { return !s.Private && (!h.partly || s.Public) }

// denied: only administrators are let into that name space or class.
func (h *Host) denied(space, class string) bool {
	return h.partly && (fold(space) == spaceWeb || fold(space) == spaceGroup || fold(space) == spacePolicy || fold(class) == "win32_ntlogevent")
}

// registry answers the methods of the class StdRegProv, as far as they are stood in
// for: keys that say that a restart is due, and what is kept of services and drivers,
// which is shown to everybody who signs in.
func (h *Host) registry(method string, input map[string]string) ([]wql.Field, bool) {
	const (
		found   = 0
		missing = 2
	)
	key := input["sSubKeyName"]
	returns := func(code int, more ...wql.Field) ([]wql.Field, bool) {
		return append(more, wql.Field{"ReturnValue", code}), true
	}
	switch method {
	case "enumkey":
		switch {
		case strings.Contains(key, "RebootPending"), strings.Contains(key, "RebootRequired"):
			if h.pending {
				return returns(found)
			}
			return returns(missing)
		case strings.EqualFold(key, servicesKey):
			names := []string{".NET Memory Cache 4.0"} // what has counters, and is no service
			for _, key := range h.names() {
				names = append(names, h.services[key].Name)
			}
			for _, d := range h.drivers {
				names = append(names, d.Name)
			}
			return returns(found, wql.Field{"sNames", names})
		}
		return returns(missing)
	case "checkaccess":
		const write = 2 | 4 | 0x10000 | 0x40000 // set a value, create a key, delete, write the descriptor
		required, err := strconv.Atoi(input["uRequired"])
		if err != nil || !strings.EqualFold(key, servicesKey) {
			return returns(missing, wql.Field{"bGranted", false})
		}
		if h.partly && required&write != 0 {
			return returns(5, wql.Field{"bGranted", false})
		}
		return returns(found, wql.Field{"bGranted", true})
	case "getbinaryvalue":
		name, of := strings.CutPrefix(fold(strings.TrimSuffix(fold(key), `\security`)), fold(servicesKey)+`\`)
		s := h.services[name]
		switch {
		case !of || s == nil || !strings.HasSuffix(fold(key), `\security`) || !strings.EqualFold(input["sValueName"], "Security"):
			return returns(missing)
		case h.partly:
			return returns(5) // that key is for administrators and the system
		case s.Descriptor == nil:
			return returns(missing)
		}
		return returns(found, wql.Field{"uValue", wql.Bytes(s.Descriptor)})
	case "getdwordvalue", "getstringvalue":
		name, of := strings.CutPrefix(strings.ToLower(key), strings.ToLower(servicesKey)+`\`)
		if !of {
			return returns(missing)
		}
		s, d := h.services[name], h.driver(name)
		switch value := strings.ToLower(input["sValueName"]); {
		case method == "getdwordvalue" && value == "type" && s != nil:
			kind := 0x10
			if s.Shared {
				kind = 0x20
			}
			return returns(found, wql.Field{"uValue", kind})
		case method == "getdwordvalue" && value == "type" && d != nil:
			return returns(found, wql.Field{"uValue", 1})
		case method == "getstringvalue" && value == "objectname" && s != nil:
			return returns(found, wql.Field{"sValue", s.Account})
		case method == "getstringvalue" && value == "displayname" && s != nil:
			return returns(found, wql.Field{"sValue", s.Display})
		case method == "getstringvalue" && value == "imagepath" && s != nil:
			return returns(found, wql.Field{"sValue", s.Path})
		}
		return returns(missing)
	}
	return nil, false
}

func (h *Host) driverRecords() []wql.Record {
	var out []wql.Record
	for _, d := range h.drivers {
		state := Running
		if d.Stopped {
			state = Stopped
		}
		out = append(out, wql.NewRecord("Win32_SystemDriver", []string{"Name"}, []wql.Field{
			{"AcceptStop", true},
			{"Caption", d.Display},
			{"CreationClassName", "Win32_SystemDriver"},
			{"DisplayName", d.Display},
			{"ExitCode", 0},
			{"Name", d.Name},
			{"PathName", d.Path},
			{"ServiceType", "Kernel Driver"},
			{"Started", !d.Stopped},
			{"StartMode", "System"},
			{"StartName", nil},
			{"State", state},
		}))
	}
	return out
}

func (h *Host) clusterRecords(class string) []wql.Record {
	var out []wql.Record
	if class == "mscluster_node" {
		for _, name := range h.cluster.Nodes {
			out = append(out, wql.NewRecord("MSCluster_Node", []string{"Name"}, []wql.Field{{"Name", name}, {"State", 0}}))
		}
		return out
	}
	out = append(out, wql.NewRecord("MSCluster_Resource", []string{"Id"}, []wql.Field{{"Id", "0"}, {"Name", "Cluster IP Address"}, {"PrivateProperties", wql.NewRecord("MSCluster_Property_IP_Address", nil, []wql.Field{{"Address", "192.0.2.40"}})}, {"State", 2}, {"Type", "IP Address"}}))
	for i, name := range h.cluster.Services {
		properties := wql.NewRecord("MSCluster_Property_Generic_Service", nil, []wql.Field{{"ServiceName", name}, {"StartupParameters", nil}})
		out = append(out, wql.NewRecord("MSCluster_Resource", []string{"Id"}, []wql.Field{{"Id", strconv.Itoa(i + 1)}, {"Name", "Ferry " + name}, {"PrivateProperties", properties}, {"State", 2}, {"Type", "Generic Service"}}))
	}
	return out
}

// checkpoint and waitHint are what a service tells of itself while it starts or stops.
func (h *Host) checkpoint(s *Service) int {
	if s.WaitHint == 0 || s.state != StartPending && s.state != StopPending {
		return 0
	}
	return 1 + int(h.now().Sub(s.since)/(s.WaitHint/2))
}

func (h *Host) waitHint(s *Service) int {
	if s.state != StartPending && s.state != StopPending {
		return 0
	}
	return int(s.WaitHint.Milliseconds())
}
