package windowshost

import (
	"cmp"
	"slices"
	"strconv"
	"strings"
	"time"

	"mossledger.example/moss/internal/standin/windowshost/soap"
	"mossledger.example/moss/internal/standin/windowshost/wql"
)

const (
	spaceCIM   = "root/cimv2"
	spaceTasks = "root/microsoft/windows/taskscheduler"
	spaceWeb   = "root/webadministration"
	spaceReg   = "root/default"
	spaceGroup = "root/mscluster"

	spacePolicy = "root/rsop/computer"
)

// instances returns all instances of a class, or false when there is no such
// class in the name space.
func (h *Host) instances(space, class string) ([]wql.Record, bool) {
	h.settleAll()
	switch fold(space) + ":" + fold(class) {
	case spaceCIM + ":win32_service":
		return h.serviceRecords(), true
	case spaceCIM + ":win32_baseservice":
		return append(h.serviceRecords(), h.driverRecords()...), true
	case spaceGroup + ":mscluster_resource", spaceGroup + ":mscluster_node":
		if h.cluster == nil {
			return nil, false
		}
		return h.clusterRecords(fold(class)), true
	case spaceCIM + ":win32_dependentservice":
		return h.orderRecords(), true
	case spaceCIM + ":win32_process":
		return h.processRecords(), true
	case spaceCIM + ":win32_operatingsystem":
		return []wql.Record{h.system()}, true
	case spaceCIM + ":win32_computersystem":
		return []wql.Record{h.computer()}, true
	case spaceCIM + ":win32_useraccount":
		return h.userRecords(), true
	case spaceCIM + ":win32_group":
		return h.groupRecords(), true
	case spaceCIM + ":win32_groupuser":
		return h.memberRecords(), true
	case spaceCIM + ":win32_ntlogevent":
		return h.eventRecords(), true
	case spaceCIM + ":stdregprov", spaceReg + ":stdregprov", spaceTasks + ":ps_scheduledtask":
		return nil, true
	case spaceCIM + ":win32_sid":
		return h.sidRecords(), true
	case spacePolicy + ":rsop_userprivilegeright":
		return h.policy.Records(), true
	case spaceTasks + ":msft_scheduledtask":
		return h.taskRecords(), true
	case spaceWeb + ":applicationpool":
		if len(h.pools) == 0 {
			return nil, false // without the feature there is no such name space
		}
		return h.poolRecords(), true
	}
	return nil, false
}

func (h *Host) serviceRecords() []wql.Record {
	var out []wql.Record
	for _, key := range h.names() {
		s := h.services[key]
		if !h.shown(s) {
			continue
		}
		kind := "Own Process"
		if s.Shared {
			kind = "Share Process"
		}
		out = append(out, wql.NewRecord("Win32_Service", []string{"Name"}, []wql.Field{
			{"AcceptPause", false},
			{"AcceptStop", s.state == Running},
			{"Caption", s.Display},
			{"CheckPoint", h.checkpoint(s)},
			{"CreationClassName", "Win32_Service"},
			{"DelayedAutoStart", false},
			{"Description", text(s.Description)},
			{"DesktopInteract", false},
			{"DisplayName", s.Display},
			{"ErrorControl", "Normal"},
			{"ExitCode", s.exit},
			{"InstallDate", nil},
			{"Name", s.Name},
			{"PathName", text(s.Path)},
			{"ProcessId", s.pid},
			{"ServiceSpecificExitCode", 0},
			{"ServiceType", kind},
			{"Started", s.state == Running},
			{"StartMode", s.Mode},
			{"StartName", text(s.Account)},
			{"State", s.state},
			{"Status", "OK"},
			{"SystemCreationClassName", "Win32_ComputerSystem"},
			{"SystemName", h.Name},
			{"TagId", 0},
			{"WaitHint", h.waitHint(s)},
		}))
	}
	return out
}

func text(s string) any {
	if s == "" {
		return nil
	}
	return s
}

func (h *Host) orderRecords() []wql.Record {
	var out []wql.Record
	for _, key := range h.names() {
		s := h.services[key]
		for _, name := range s.Needs {
			class := "Win32_Service"
			if h.driver(name) != nil {
				class = "Win32_SystemDriver"
			}
			if !h.shown(s) {
				continue
			}
			out = append(out, wql.NewRecord("Win32_DependentService", []string{"Antecedent", "Dependent"}, []wql.Field{
				{"Antecedent", wql.NewReference(class, [][2]string{{"Name", name}})},
				{"Dependent", wql.NewReference("Win32_Service", [][2]string{{"Name", s.Name}})},
				{"TypeOfDependency", nil},
			}))
		}
	}
	return out
}

func (h *Host) processRecords() []wql.Record {
	out := []wql.Record{wql.NewRecord("Win32_Process", []string{"Handle"}, []wql.Field{{"Handle", "560"}, {"ProcessId", 560}, {"Name", "svchost.exe"}, {"CreationDate", h.booted.Add(9 * time.Second)}, {"ExecutablePath", `C:\Windows\System32\svchost.exe`}})}
	for _, key := range h.names() {
		s := h.services[key]
		if s.pid == 0 || s.Shared || h.partly {
			continue
		}
		path := strings.Trim(strings.SplitN(s.Path+" ", " ", 2)[0], `"`)
		out = append(out, wql.NewRecord("Win32_Process", []string{"Handle"}, []wql.Field{
			{"Handle", strconv.Itoa(s.pid)}, {"ProcessId", s.pid}, {"Name", path[strings.LastIndexByte(path, '\\')+1:]}, {"CreationDate", s.started}, {"ExecutablePath", path},
		}))
	}
	return out
}

func (h *Host) system() wql.Record {
	return wql.NewRecord("Win32_OperatingSystem", []string{"Name"}, []wql.Field{
		{"BuildNumber", "20348"},
		{"Caption", "Stand-in Server 2022 Standard"},
		{"CSName", h.Name},
		{"CurrentTimeZone", h.Zone},
		{"LastBootUpTime", h.booted},
		{"LocalDateTime", h.now()},
		{"Name", `Stand-in Server 2022 Standard|C:\Windows|`},
		{"OSArchitecture", "64-bit"},
		{"ProductType", 3},
		{"SerialNumber", "00454-" + h.sid(0)[9:19]},
		{"Version", "10.0.20348"},
	})
}

func (h *Host) computer() wql.Record {
	domain := h.Domain
	if domain == "" {
		domain = "WORKGROUP"
	}
	role := 2
	if h.Domain != "" {
		role = 3
	}
	return wql.NewRecord("Win32_ComputerSystem", []string{"Name"}, []wql.Field{
		{"DNSHostName", strings.ToLower(h.Name)}, {"Domain", domain}, {"DomainRole", role}, {"Manufacturer", "Stand-in"}, {"Name", h.Name}, {"PartOfDomain", h.Domain != ""}, {"Roles", []string{"LM_Workstation", "LM_Server", "NT"}},
	})
}

func (h *Host) userRecords() []wql.Record {
	var out []wql.Record
	for _, u := range h.users {
		out = append(out, wql.NewRecord("Win32_UserAccount", []string{"Domain", "Name"}, []wql.Field{
			{"AccountType", 512},
			{"Caption", h.Name + `\` + u.Name},
			{"Description", text(u.Description)},
			{"Disabled", u.Disabled},
			{"Domain", h.Name},
			{"FullName", text(u.FullName)},
			{"LocalAccount", true},
			{"Lockout", u.Locked},
			{"Name", u.Name},
			{"PasswordChangeable", true},
			{"PasswordExpires", u.Expires},
			{"PasswordRequired", true},
			{"SID", h.sid(u.RID)},
			{"SIDType", 1},
			{"Status", "OK"},
		}))
	}
	return out
}

func (h *Host) groupRecords() []wql.Record {
	var out []wql.Record
	for i, g := range h.groups {
		out = append(out, wql.NewRecord("Win32_Group", []string{"Domain", "Name"}, []wql.Field{{"Caption", h.Name + `\` + g.Name}, {"Domain", h.Name}, {"LocalAccount", true}, {"Name", g.Name}, {"SID", h.groupSID(i)}, {"SIDType", 4}}))
	}
	return out
}

func (h *Host) memberRecords() []wql.Record {
	var out []wql.Record
	for _, g := range h.groups {
		for _, m := range g.Members {
			domain, name, _ := strings.Cut(m, `\`)
			class := "Win32_UserAccount"
			if strings.EqualFold(domain, "NT AUTHORITY") {
				class = "Win32_SystemAccount"
			}
			out = append(out, wql.NewRecord("Win32_GroupUser", []string{"GroupComponent", "PartComponent"}, []wql.Field{
				{"GroupComponent", wql.NewReference("Win32_Group", [][2]string{{"Domain", h.Name}, {"Name", g.Name}})},
				{"PartComponent", wql.NewReference(class, [][2]string{{"Domain", domain}, {"Name", name}})},
			}))
		}
	}
	return out
}

func (h *Host) eventRecords() []wql.Record {
	out := make([]wql.Record, 0, len(h.events)+len(h.security))
	for _, e := range slices.Backward(slices.Concat(h.security, h.events)) {
		identifier := int64(e.Code)
		switch e.Level {
		case "Error":
			identifier |= 0xC0000000
		case "Information":
			identifier |= 0x40000000
		}
		out = append(out, wql.NewRecord("Win32_NTLogEvent", []string{"Logfile", "RecordNumber"}, []wql.Field{
			{"Category", 0},
			{"ComputerName", h.Name},
			{"Data", wql.Bytes(e.Data)},
			{"EventCode", e.Code},
			{"EventIdentifier", int(identifier)},
			{"InsertionStrings", e.Strings},
			{"Logfile", cmp.Or(e.Log, "System")},
			{"Message", e.Message},
			{"RecordNumber", e.Record},
			{"SourceName", e.Source},
			{"TimeGenerated", e.Time},
			{"TimeWritten", e.Time},
			{"Type", e.Level},
			{"User", text(e.User)},
		}))
	}
	return out
}

func (h *Host) taskRecords() []wql.Record {
	var out []wql.Record
	for _, t := range h.tasks {
		if h.partly && h.canonical(t.User) != h.canonical(h.asker) {
			continue // a task's own descriptor shows it to whom it runs as
		}
		state := 3
		if t.Disabled {
			state = 1
		}
		action := wql.NewRecord("MSFT_TaskExecAction", nil, []wql.Field{{"Id", nil}, {"Arguments", text(t.Arguments)}, {"Execute", t.Execute}, {"WorkingDirectory", nil}})
		principal := wql.NewRecord("MSFT_TaskPrincipal2", nil, []wql.Field{{"DisplayName", nil}, {"GroupId", nil}, {"Id", "Author"}, {"LogonType", t.LogOn}, {"ProcessTokenSidType", 2}, {"RequiredPrivilege", nil}, {"RunLevel", 0}, {"UserId", t.User}})
		var triggers []wql.Record
		if t.Start != "" {
			repetition := wql.NewRecord("MSFT_TaskRepetitionPattern", nil, []wql.Field{{"Duration", nil}, {"Interval", text(t.Interval)}, {"StopAtDurationEnd", false}})
			triggers = append(triggers, wql.NewRecord("MSFT_TaskDailyTrigger", nil, []wql.Field{{"Enabled", true}, {"EndBoundary", nil}, {"ExecutionTimeLimit", nil}, {"Id", nil}, {"Repetition", repetition}, {"StartBoundary", t.Start}, {"DaysInterval", 1}}))
		}
		out = append(out, wql.NewRecord("MSFT_ScheduledTask", []string{"TaskName", "TaskPath"}, []wql.Field{
			{"Actions", []wql.Record{action}}, {"Author", text(t.Author)}, {"Date", nil}, {"Description", text(t.Description)}, {"Principal", principal}, {"State", state}, {"TaskName", t.Name}, {"TaskPath", t.Path}, {"Triggers", triggers}, {"URI", t.Path + t.Name}, {"Version", nil},
		}))
	}
	return out
}

func (h *Host) poolRecords() []wql.Record {
	var out []wql.Record
	for _, p := range h.pools {
		model := wql.NewRecord("ProcessModelSettings", nil, []wql.Field{{"IdentityType", p.Identity}, {"IdleTimeout", "00000000002000.000000:000"}, {"MaxProcesses", 1}, {"Password", p.Password}, {"PingingEnabled", true}, {"UserName", p.User}})
		out = append(out, wql.NewRecord("ApplicationPool", []string{"Name"}, []wql.Field{{"AutoStart", !p.Manual}, {"Enable32BitAppOnWin64", false}, {"ManagedPipelineMode", 0}, {"ManagedRuntimeVersion", "v4.0"}, {"Name", p.Name}, {"ProcessModel", model}, {"QueueLength", 1000}}))
	}
	return out
}

// takes are the arguments that the stood-in methods know; another is a fault,
// and so is one whose effect is not stood in for.
var takes = map[string][]string{
	"win32_service:startservice": {}, "win32_service:stopservice": {}, "win32_service:changestartmode": {"StartMode"},
	"win32_operatingsystem:reboot": {}, "win32_service:change": {"StartMode", "StartName", "StartPassword", "DisplayName"},
	"ps_scheduledtask:setbyuser":      {"TaskName", "TaskPath", "User", "Password"},
	"ps_scheduledtask:setbyprincipal": {"TaskName", "TaskPath", "Principal", "Principal.is", "Principal.DisplayName", "Principal.GroupId", "Principal.Id", "Principal.LogonType", "Principal.ProcessTokenSidType", "Principal.RequiredPrivilege", "Principal.RunLevel", "Principal.UserId"},
	"applicationpool:getstate":        {}, "applicationpool:recycle": {}, "applicationpool:start": {}, "applicationpool:stop": {},
	"stdregprov:enumkey": {"hDefKey", "sSubKeyName"}, "stdregprov:getbinaryvalue": {"hDefKey", "sSubKeyName", "sValueName"}, "stdregprov:checkaccess": {"hDefKey", "sSubKeyName", "uRequired"},
	"stdregprov:getdwordvalue": {"hDefKey", "sSubKeyName", "sValueName"}, "stdregprov:getstringvalue": {"hDefKey", "sSubKeyName", "sValueName"},
}

// misnamed is what a name gets that the class does not have.
func misnamed(what, name string) *fault {
	return &fault{code: "Sender", subcode: "w:SchemaValidationError", reason: "The SOAP XML in the message does not match the corresponding XML schema definition: there is no " + what + " " + name + ".", number: "2150858817"}
}

// call runs a method: its outputs, or a fault's number with words.
func (h *Host) call(space, class, method string, selectors map[string]string, input map[string]string) ([]wql.Field, *fault) {
	if known, ok := takes[fold(class)+":"+fold(method)]; ok {
		for name := range input {
			if !slices.Contains(known, name) {
				return nil, misnamed("argument", name)
			}
		}
	}
	h.settleAll()
	returns := func(code int) ([]wql.Field, *fault) { return []wql.Field{{"ReturnValue", code}}, nil }
	switch fold(class) {
	case "win32_service":
		s := h.services[fold(selectors["name"])]
		if s == nil || !h.shown(s) {
			return nil, notFound()
		}
		if !h.mayDo(s, fold(method)) {
			return returns(codeAccessDenied)
		}
		switch fold(method) {
		case "startservice":
			return returns(h.start(s))
		case "stopservice":
			return returns(h.stop(s))
		case "change":
			return returns(h.change(s, input))
		case "changestartmode":
			return returns(h.change(s, map[string]string{"StartMode": input["StartMode"]}))
		}
	case "win32_operatingsystem":
		if fold(method) == "reboot" && h.partly {
			return returns(1314) // the privilege is not held
		}
		if fold(method) == "reboot" {
			h.reboot()
			return returns(codeOK)
		}
	case "ps_scheduledtask":
		if h.partly {
			return nil, wmiFault("0x80070005")
		}
		if set := map[string]func(map[string]string) (int, string){"setbyuser": h.setTask, "setbyprincipal": h.setPrincipal}[fold(method)]; set != nil {
			code, problem := set(input)
			if problem != "" {
				return nil, wmiFault(problem)
			}
			return returns(code)
		}
	case "applicationpool":
		if h.partly {
			denied := faultDenied
			return nil, &denied
		}
		for _, p := range h.pools {
			if fold(p.Name) != fold(selectors["name"]) {
				continue
			}
			switch fold(method) {
			case "getstate":
				return returns(p.state)
			case "recycle":
				if !p.recycle() {
					return nil, wmiFault("0x80070426")
				}
				return nil, nil
			case "start":
				p.start()
				return nil, nil
			case "stop":
				p.state, p.used = poolStopped, ""
				return nil, nil
			}
		}
		return nil, notFound()
	case "stdregprov":
		if out, known := h.registry(fold(method), input); known {
			return out, nil
		}
	}
	return nil, &fault{code: "Sender", subcode: "a:ActionNotSupported", reason: "The action is not supported by the service.", number: "2150858819"}
}

// put writes an instance: application pools only.
func (h *Host) put(class string, selectors map[string]string, body *soap.Element) *fault {
	if fold(class) != "applicationpool" {
		return &fault{code: "Sender", subcode: "a:ActionNotSupported", reason: "The action is not supported by the service.", number: "2150858819"}
	}
	if h.partly {
		denied := faultDenied
		return &denied
	}
	for _, p := range h.pools {
		if fold(p.Name) != fold(selectors["name"]) {
			continue
		}
		model := body.Child("ProcessModel")
		if model == nil {
			return &fault{code: "Sender", subcode: "w:SchemaValidationError", reason: "The SOAP XML in the message does not match the corresponding XML schema definition.", number: "2150858817"}
		}
		// Older hosts wrap embedded instances once more.
		if inner := model.Child("ProcessModelSettings"); inner != nil {
			model = inner
		}
		// An embedded instance says of which class it is (DSP0230, section 7.2.5).
		if !strings.HasSuffix(model.Attribute("type"), ":ProcessModelSettings_Type") {
			return &fault{code: "Sender", subcode: "w:SchemaValidationError", reason: "The SOAP XML in the message does not match the corresponding XML schema definition: ProcessModel does not say of which class it is.", number: "2150858817"}
		}
		known := h.poolRecords()[0]
		for _, c := range body.Children {
			if !known.Has(c.XMLName.Local) {
				return misnamed("property", c.XMLName.Local)
			}
		}
		settings, _ := known.Get("ProcessModel").(wql.Record)
		for _, c := range model.Children {
			if !settings.Has(c.XMLName.Local) {
				return misnamed("property", c.XMLName.Local)
			}
		}
		if v := model.Child("IdentityType"); v != nil {
			identity, err := strconv.Atoi(v.Content)
			if err != nil || identity < 0 || identity > 4 {
				return &fault{code: "Sender", subcode: "w:SchemaValidationError", reason: "IdentityType is none of its values.", number: "2150858817"}
			}
			p.Identity = identity
		}
		if v := model.Child("UserName"); v != nil {
			p.User = v.Content
		}
		if v := model.Child("Password"); v != nil {
			p.Password = v.Content
		}
		p.used = "" // a change of the model ends the workers; the next request starts one anew
		return nil
	}
	return notFound()
}
