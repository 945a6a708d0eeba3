// Package larkmoor builds the demonstration estate of Larkmoor Ferries, a
// made-up island ferry company: a directory of the Windows-domain schema, four
// unix hosts and three windows hosts at the terminals, all stand-ins that enforce credentials for real. It
// contains on purpose what makes this work hard: a departed administrator's
// account on two services, a password that never expires, a stale copy, an
// unreachable host, a misspelt one, a reference to an account that no longer
// exists, one name on two systems, and a chain of services with a start order.
package larkmoor

import (
	"encoding/csv"
	"errors"
	"fmt"
	"net"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/layout"
	"mossledger.example/moss/internal/core/managed"
	"mossledger.example/moss/internal/core/privilege/descriptor"
	"mossledger.example/moss/internal/standin"
	"mossledger.example/moss/internal/standin/acme"
	"mossledger.example/moss/internal/standin/cloud"
	"mossledger.example/moss/internal/standin/datastore"
	"mossledger.example/moss/internal/standin/directory"
	"mossledger.example/moss/internal/standin/unixhost"
	"mossledger.example/moss/internal/standin/windowshost"
)

// Base of the directory.
const Base = "DC=larkmoor,DC=example"

// Manager is the account that Moss Ledger itself uses everywhere.
const (
	Manager         = "mossmgr"
	ManagerDN       = "CN=mossmgr,OU=Administration," + Base
	ManagerPassword = "Moss-manages-7-ferries"
)

// Passwords that the accounts have at first.
var Passwords = map[string]string{
	"svc-berth":    "Harbour-Lamp-41",
	"svc-gangway":  "Rope-And-Tide-58",
	"svc-manifest": "Cargo/List+27=x",
	"svc-tidefeed": "Neap-Spring-93",
	"svc-fuelcard": "Diesel-Pump-16",
	"svc-quayline": "Bollard+Chain-37",
	"svc-terminal": "Kiosk-Light-64",
	"svc_bookings": "Window-Seat-72",
	"svc_reports":  "Window-Seat-72", // the same: somebody was in a hurry
	"svc_tides":    "Moon%Pulls&Sea-15",
	"fares_a":      "Half-Fare-Child-26",
	"fares_b":      "Full-Fare-Adult-62",
}

// Estate is the running estate.
type Estate struct {
	Directory *directory.Server
	Hosts     map[string]*unixhost.Host
	Windows   map[string]*windowshost.Host
	CA        string // PEM
	Authority *standin.Authority
	Address   string // of the directory
	HostsCSV  string // the list that an administrator would have
	Board     string // URL of the applications' own checks
	Bookings  *datastore.Postgres
	Tides     *datastore.Redis
	Feeds     *cloud.Project
	FeedsKey  string       // private half of a key of its manager
	Certifier *acme.Server // issues certificates
	// CertifierKey is the private half of the key of the account by which they are ordered.
	CertifierKey string
	Stores       map[string]string // addresses of the data stores, and of the feeds, by name

	lock  sync.Mutex
	used  map[string]string // what a running program signed in with: host/unit to name\x00password
	board *http.Server
	site  *site
	done  sync.WaitGroup
}

// DN of a service account.
func DN(name string) string { return "CN=" + name + ",OU=Service Accounts," + Base }

// Start builds the estate on loopback.
func Start() (*Estate, error) {
	authority, err := standin.NewAuthority()
	if err != nil {
		return nil, err
	}
	config, err := authority.Server("127.0.0.1", "directory.larkmoor.example")
	if err != nil {
		return nil, err
	}
	e := &Estate{Hosts: map[string]*unixhost.Host{}, Windows: map[string]*windowshost.Host{}, CA: authority.PEM, Authority: authority, used: map[string]string{}}
	e.Directory = directory.New(directory.Config{Base: Base, NetBIOS: "LARKMOOR", Windows: true, MinLen: 12, Timed: true, TLS: config})
	e.fillDirectory()
	if e.Address, err = e.Directory.Serve("127.0.0.1:0"); err != nil {
		return nil, err
	}
	if err := e.startBoard(); err != nil {
		return nil, errors.Join(err, e.Close())
	}
	if err := e.startStores(config); err != nil {
		return nil, errors.Join(err, e.Close())
	}
	if err := e.startFeeds(config); err != nil {
		return nil, errors.Join(err, e.Close())
	}
	if err := errors.Join(e.startSite(), e.startCertifier(config)); err != nil {
		return nil, errors.Join(err, e.Close())
	}
	for _, build := range []func() *unixhost.Host{e.quay("quay1"), e.quay("quay2"), e.bookings, e.tide} {
		host := build()
		e.Hosts[host.Name] = host
		if _, err := host.Serve("127.0.0.1:0"); err != nil {
			return nil, errors.Join(err, e.Close())
		}
	}
	if err := errors.Join(e.keyWithDoors(), e.feedPrograms(), e.SiteFiles(time.Now().AddDate(0, 0, -78), time.Now().AddDate(0, 0, 12))); err != nil {
		return nil, errors.Join(err, e.Close())
	}
	if err := e.startWindows(authority); err != nil {
		return nil, errors.Join(err, e.Close())
	}
	e.Hosts["bookings1"].SetPort(SitePort, e.site.listener.Addr().String())
	e.Hosts["bookings1"].Restart("bookings-web.service")
	e.HostsCSV = e.list()
	return e, nil
}

// Close ends everything.
func (e *Estate) Close() error {
	var errs []error
	for _, host := range e.Hosts {
		errs = append(errs, host.Close())
	}
	for _, host := range e.Windows {
		errs = append(errs, host.Close())
	}
	if e.board != nil {
		errs = append(errs, e.board.Close())
	}
	if e.Bookings != nil {
		errs = append(errs, e.Bookings.Close(), e.Tides.Close())
	}
	if e.Feeds != nil {
		errs = append(errs, e.Feeds.Close())
	}
	if e.Certifier != nil {
		errs = append(errs, e.Certifier.Close())
	}
	if e.site != nil {
		errs = append(errs, e.site.close())
	}
	errs = append(errs, e.Directory.Close())
	e.done.Wait()
	return errors.Join(errs...)
}

// list is the list of hosts as an administrator keeps it: with one that is
// down and one misspelt name, and a row with a mistake.
func (e *Estate) list() string {
	var out strings.Builder
	w := csv.NewWriter(&out)
	rows := [][]string{{"name", "address", "kind", "site", "environment", "owner", "paths"}}
	for _, name := range []string{"quay1", "quay2", "bookings1", "tide1"} {
		site := map[string]string{"quay1": "Larkmoor North", "quay2": "Skerry Bay", "bookings1": "Larkmoor North", "tide1": "Gannet Head"}[name]
		paths := ""
		if name == "tide1" {
			paths = "/etc/tide/backup.env"
		}
		rows = append(rows, []string{name, e.Hosts[name].Address(), "unix-host", site, "production", "Terminal systems", paths})
	}
	for _, name := range []string{"north1", "skerry1"} {
		site := map[string]string{"north1": "Larkmoor North", "skerry1": "Skerry Bay"}[name]
		rows = append(rows, []string{name, e.Windows[name].Address(), "windows-host", site, "production", "Terminal systems", ""})
	}
	rows = append(rows,
		[]string{"gannet1", "127.0.0.9:5986", "windows-host", "Gannet Head", "production", "Terminal systems", ""},
		[]string{"dock9", "127.0.0.9:22", "unix-host", "Skerry Bay", "production", "Terminal systems", ""},
		[]string{"bokings1", "", "unix-host", "Larkmoor North", "production", "Bookings", ""},
		[]string{"quay1", "127.0.0.1:22", "unix-host", "Larkmoor North", "production", "Terminal systems", ""},
		[]string{"crane3", "127.0.0.1:ninety", "unix-host", "Skerry Bay", "production", "Terminal systems", ""})
	_ = w.WriteAll(rows) // into memory
	return out.String()
}

func (e *Estate) fillDirectory() {
	add := func(dn string, classes []string, attributes map[string][]string, entry directory.Entry) {
		entry.DN = dn
		entry.Attributes = map[string][]string{"objectClass": classes}
		for k, v := range attributes {
			entry.Attributes[k] = v
		}
		e.Directory.Add(entry)
	}
	for _, ou := range []string{"Service Accounts", "People", "Hosts", "Administration", "Groups"} {
		add("OU="+ou+","+Base, []string{"top", "organizationalUnit"}, map[string][]string{"ou": {ou}}, directory.Entry{})
	}
	user := []string{"top", "person", "organizationalPerson", "user"}
	account := func(dn, name string, more map[string][]string, entry directory.Entry) {
		attributes := map[string][]string{"sAMAccountName": {name}, "cn": {name}, "userPrincipalName": {name + "@larkmoor.example"}}
		for k, v := range more {
			attributes[k] = v
		}
		add(dn, user, attributes, entry)
	}
	long := time.Now().AddDate(-3, -2, 0)
	account(ManagerDN, Manager, map[string][]string{"description": {"Moss Ledger signs in with this"}}, directory.Entry{Password: ManagerPassword, Admin: true, Never: true})
	account(DN("svc-berth"), "svc-berth", map[string][]string{"description": {"Berth boards at the quays"}, "memberOf": {"CN=Terminal Services,OU=Groups," + Base}},
		directory.Entry{Password: Passwords["svc-berth"], Never: true, Changed: long})
	account(DN("svc-gangway"), "svc-gangway", map[string][]string{"description": {"Gangway counters"}, "servicePrincipalName": {"HTTP/gangway.larkmoor.example"}, "memberOf": {"CN=Terminal Services,OU=Groups," + Base}}, directory.Entry{Password: Passwords["svc-gangway"], Changed: time.Now().AddDate(0, 0, -60)})
	account(DN("svc-manifest"), "svc-manifest", map[string][]string{"description": {"Passenger manifests for the harbour office"}}, directory.Entry{Password: Passwords["svc-manifest"]})
	account(DN("svc-tidefeed"), "svc-tidefeed", map[string][]string{"description": {"Tide tables, every ten minutes"}}, directory.Entry{Password: Passwords["svc-tidefeed"]})
	account(DN("svc-fuelcard"), "svc-fuelcard", map[string][]string{"description": {"Fuel cards (unused since the pumps moved)"}}, directory.Entry{Password: "another-Pump-77", Disabled: true})
	account(DN("svc-quayline"), "svc-quayline", map[string][]string{"description": {"Quay line: ticket gates, boards and boarding at the terminals"}, "memberOf": {"CN=Terminal Services,OU=Groups," + Base}}, directory.Entry{Password: Passwords["svc-quayline"], Changed: time.Now().AddDate(0, 0, -87)})
	account(DN("svc-terminal"), "svc-terminal", map[string][]string{"description": {"Kiosks and reports at the terminals"}, "memberOf": {"CN=Terminal Services,OU=Groups," + Base}}, directory.Entry{Password: Passwords["svc-terminal"], Changed: time.Now().AddDate(0, 0, -60)})
	add("CN=gmsa-lockers,OU=Service Accounts,"+Base, append(append([]string(nil), user...), "computer", directory.ManagedClass), map[string][]string{"sAMAccountName": {"gmsa-lockers$"}, "cn": {"gmsa-lockers"}, "description": {"Luggage lockers; the directory changes its password"},
		"dNSHostName": {"gmsa-lockers.larkmoor.example"}, "msDS-ManagedPasswordInterval": {"30"}, "msDS-SupportedEncryptionTypes": {"24"}}, directory.Entry{Changed: time.Now().AddDate(0, 0, -12)})
	account("CN=Odile Kern,OU=People,"+Base, "odile.kern", map[string][]string{"displayName": {"Odile Kern"}, "description": {"Left the company in spring"}}, directory.Entry{Password: "Left-Long-Ago-22", Disabled: true})
	account("CN=Ines Marsh,OU=People,"+Base, "ines.marsh", map[string][]string{"displayName": {"Ines Marsh"}}, directory.Entry{Password: "Ferry-Mornings-88"})
	group := []string{"top", "group"}
	// Terminal Services lies in Operations, which lies in itself.
	add("CN=Terminal Services,OU=Groups,"+Base, group, map[string][]string{"sAMAccountName": {"Terminal Services"}, "memberOf": {"CN=Operations,OU=Groups," + Base}}, directory.Entry{})
	add("CN=Season Opening,OU=Groups,"+Base, group, map[string][]string{"sAMAccountName": {"Season Opening"}, "description": {"Who helps at the terminals when the season opens"}}, directory.Entry{})
	e.Directory.AddFor("CN=Season Opening,OU=Groups,"+Base, DN("svc-terminal"), 5*24*time.Hour)
	add("CN=Operations,OU=Groups,"+Base, group, map[string][]string{"sAMAccountName": {"Operations"}, "memberOf": {"CN=Operations,OU=Groups," + Base}}, directory.Entry{})
	// Operations may reset the passwords of all service accounts since a night of trouble, and
	// whoever lies in Terminal Services with it. Nobody meant that.
	const reset, restrictions = "00299570-246d-11d0-a768-00aa006e0529", "4c164200-20c0-11d0-a768-00aa006e0529"
	for _, name := range []string{"svc-berth", "svc-gangway", "svc-manifest", "svc-tidefeed", "svc-fuelcard", "svc-quayline", "svc-terminal"} {
		e.Directory.Allow(DN(name), ManagerDN, descriptor.ControlAccess, reset)
		e.Directory.Allow(DN(name), ManagerDN, descriptor.ReadProperty|descriptor.WriteProperty, restrictions)
		e.Directory.Allow(DN(name), "CN=Operations,OU=Groups,"+Base, descriptor.ControlAccess, reset)
	}
	e.Directory.Allow("CN=Operations,OU=Groups,"+Base, "CN=Ines Marsh,OU=People,"+Base, descriptor.WriteProperty, "bf9679c0-0de6-11d0-a285-00aa003049e2")
	computer := append(append([]string(nil), user...), "computer")
	for name, os := range map[string]string{"QUAY1": "Stand-in Linux", "TIDE1": "Stand-in Linux", "NORTH1": "Windows Server 2022 Standard", "KIOSK4": "Windows Server 2022 Standard", "SKERRY1": "Windows Server 2022 Standard"} {
		add("CN="+name+",OU=Hosts,"+Base, computer, map[string][]string{"sAMAccountName": {name + "$"}, "cn": {name}, "dNSHostName": {strings.ToLower(name) + ".larkmoor.example"}, "operatingSystem": {os}, "msDS-SupportedEncryptionTypes": {"28"}}, directory.Entry{})
	}
	// The lockers at the skerry have an account whose password the directory makes.
	e.Directory.AddRootKey("6e1c2f60-5a3d-4c52-9a57-3f0d5b8c1a11", long, long.Add(managed.KeyDelay))
	const lockers = LockerHosts
	add(lockers, group, map[string][]string{"sAMAccountName": {"Locker Hosts"}, "description": {"Hosts that may have the password of gmsa-lockers$"}}, directory.Entry{})
	e.Directory.Join(lockers, "CN=SKERRY1,OU=Hosts,"+Base, long)
	e.Directory.Permit("CN=gmsa-lockers,OU=Service Accounts,"+Base, lockers)
}

func manager(h *unixhost.Host) {
	h.AddUser(unixhost.User{Name: Manager, UID: 990, Gecos: "Moss Ledger", Home: "/home/mossmgr", Shell: "/bin/bash", Password: ManagerPassword, Sudo: func([]string) bool { return true }})
	sudoers(h, "mossmgr", "Defaults:mossmgr !lecture, !requiretty\nmossmgr ALL = (root) NOPASSWD: ALL\n")
}

// sudoers puts rules for sudo into a file of their own.
func sudoers(h *unixhost.Host, name, rules string) {
	h.Write("/etc/sudoers", unixhost.File{Mode: 0o440, Owner: "root", Group: "root", Content: []byte("Defaults env_reset\nroot ALL = (ALL : ALL) ALL\n@includedir /etc/sudoers.d\n")})
	h.Write("/etc/sudoers.d/"+name, unixhost.File{Mode: 0o440, Owner: "root", Group: "root", Content: []byte(rules)})
}

// quay builds a terminal host: the gangway counter starts after the berth board.
func (e *Estate) quay(name string) func() *unixhost.Host {
	return func() *unixhost.Host {
		h := unixhost.New(name)
		manager(h)
		h.AddUser(unixhost.User{Name: "berth", UID: 1001, Gecos: "Berth board", Home: "/var/lib/berth", Shell: "/usr/sbin/nologin"})
		h.AddUser(unixhost.User{Name: "gangway", UID: 1002, Gecos: "Gangway counter", Home: "/var/lib/gangway", Shell: "/usr/sbin/nologin"})
		h.Write("/etc/berth/berth.env", unixhost.File{Mode: 0o640, Owner: "root", Group: "berth", ACL: "user:auditor:r--", Content: []byte(
			"# Berth board. Changed by hand since 2019, mind the quotes.\r\nBERTH_SITE=" + name + "\r\nBERTH_BIND_DN=" + DN("svc-berth") + "\r\nBERTH_BIND_PASSWORD=\"" + Passwords["svc-berth"] + "\"\r\nBERTH_LOG=info")})
		h.Write("/etc/gangway/gangway.env", unixhost.File{Mode: 0o600, Owner: "root", Group: "root", Content: []byte(
			"GANGWAY_USER=LARKMOOR\\\\svc-gangway\nGANGWAY_PASSWORD='" + Passwords["svc-gangway"] + "'\nBERTH_BIND_DN=" + DN("svc-berth") + "\nBERTH_BIND_PASSWORD=" + Passwords["svc-berth"] + "\n")})
		h.AddUnit(unixhost.Unit{
			Name: "berth.service", Description: "Berth board", User: "berth", Environment: []string{"/etc/berth/berth.env"}, Exec: "/opt/berth/bin/berth --serve", Enabled: true,
			Program: e.program(name, "berth.service", "/etc/berth/berth.env", "BERTH_BIND_DN", "BERTH_BIND_PASSWORD"),
		})
		h.AddUnit(unixhost.Unit{
			Name: "gangway.service", Description: "Gangway counter", User: "gangway", Environment: []string{"/etc/gangway/gangway.env"}, Exec: "/opt/gangway/bin/count", After: []string{"berth.service"}, Enabled: true,
			Program: e.program(name, "gangway.service", "/etc/gangway/gangway.env", "BERTH_BIND_DN", "BERTH_BIND_PASSWORD"),
		})
		e.quayPrograms(h)
		return h
	}
}

func (e *Estate) bookings() *unixhost.Host {
	h := unixhost.New("bookings1")
	manager(h)
	h.AddUser(unixhost.User{Name: "svc-fuelcard", UID: 1003, Gecos: "Fuel cards", Home: "/var/lib/fuelcard", Shell: "/bin/sh", Password: Passwords["svc-fuelcard"], MaxDays: 90, Groups: []string{"cardreaders"}})
	h.AddUser(unixhost.User{Name: "odile", UID: 1100, Gecos: "Odile Kern", Home: "/home/odile", Shell: "/bin/bash", Groups: []string{"cardreaders"}})
	h.AddUser(unixhost.User{Name: "manifest", UID: 1004, Gecos: "Manifests", Home: "/var/lib/manifest", Shell: "/usr/sbin/nologin"})
	escaped := strings.NewReplacer("/", "%2F", "+", "%2B", "=", "%3D").Replace(Passwords["svc-manifest"])
	h.Write("/etc/manifest/manifest.conf", unixhost.File{Mode: 0o600, Owner: "manifest", Group: "manifest", Content: []byte(
		"[office]\ndirectory = ldaps://svc-manifest%40larkmoor.example:" + escaped + "@directory.larkmoor.example/" + Base + "\nretries = 3\n")})
	h.Write("/etc/fuelcard/fuel.env", unixhost.File{Mode: 0o600, Content: []byte("FUEL_LOGIN=svc-fuelcard\nFUEL_PASSWORD=" + Passwords["svc-fuelcard"] + "\n")})
	h.AddUnit(unixhost.Unit{
		Name: "manifest.service", Description: "Passenger manifests", User: "manifest", Exec: "/opt/manifest/bin/manifest --config /etc/manifest/manifest.conf", Enabled: true,
		Program: e.urlProgram("bookings1", "manifest.service", "/etc/manifest/manifest.conf", "office/directory"),
	})
	e.bookingPrograms(h)
	h.AddUnit(unixhost.Unit{
		Name: "fuelcard.service", Description: "Fuel card reader", User: "svc-fuelcard", Environment: []string{"/etc/fuelcard/fuel.env"}, Exec: "/opt/fuelcard/bin/reader", Enabled: true,
		Program: func(h *unixhost.Host) error {
			f, _ := h.Read("/etc/fuelcard/fuel.env")
			span, err := held.Find(f.Content, held.Locator{Layout: layout.Env, Key: "FUEL_PASSWORD", Part: held.PartValue})
			if err != nil {
				return err
			}
			if span.Value.RevealString() != h.PasswordOf("svc-fuelcard") {
				return errors.New("fuelcard: authentication failure for svc-fuelcard")
			}
			if !h.InGroup("svc-fuelcard", "cardreaders") {
				return errors.New("fuelcard: cannot open /dev/cardreader0: Permission denied")
			}
			return nil
		},
	})
	h.AddUnit(unixhost.Unit{Name: "nightly-export.service", Description: "Nightly export, set up by Odile", User: "odile", Exec: "/home/odile/export.sh", Enabled: true})
	h.AddUnit(unixhost.Unit{Name: "oldsync.service", Description: "Synchronisation with the old booking system", User: "svc-sync", Exec: "/opt/oldsync/run", State: "failed"})
	// The manifests were given everything one night, "until Monday"; the fuel cards have what they need.
	sudoers(h, "manifest", "manifest ALL = (ALL) NOPASSWD: ALL\n")
	sudoers(h, "fuelcard", "Cmnd_Alias READER = /usr/bin/systemctl restart fuelcard.service, /usr/bin/systemctl stop fuelcard.service\nsvc-fuelcard bookings1 = NOPASSWD: READER\nodile ALL = (svc-fuelcard) /opt/fuelcard/bin/settle *\n")
	h.Write("/etc/cron.d/fares", unixhost.File{Content: []byte("# fares\n*/15 * * * * odile /home/odile/fares.sh >/dev/null\n30 2 * * * svc-fuelcard /opt/fuelcard/bin/settle --env /etc/fuelcard/fuel.env\n")})
	return h
}

func (e *Estate) tide() *unixhost.Host {
	h := unixhost.New("tide1")
	manager(h)
	h.AddUser(unixhost.User{Name: "tide", UID: 1001, Gecos: "Tide feed", Home: "/var/lib/tide", Shell: "/usr/sbin/nologin"})
	h.Write("/etc/tide/feed.env", unixhost.File{Mode: 0o644, Content: []byte("TIDE_STATION=gannet-head\nTIDE_USER=svc-tidefeed@larkmoor.example\n")})
	h.Write("/etc/tide/feed.pw", unixhost.File{Mode: 0o400, Content: []byte(Passwords["svc-tidefeed"] + "\n")})
	h.Write("/etc/tide/backup.env", unixhost.File{Mode: 0o600, Content: []byte("# restored from the backup of last winter\nTIDE_USER=svc-tidefeed@larkmoor.example\nTIDE_PASSWORD=Old-Winter-Tide-11\n")})
	e.tidePrograms(h)
	h.AddUnit(unixhost.Unit{
		Name: "tidefeed.service", Description: "Tide tables", User: "tide", Environment: []string{"/etc/tide/feed.env"}, Credentials: []string{"/etc/tide/feed.pw"}, Exec: "/opt/tide/bin/feed", Enabled: true,
		Program: func(h *unixhost.Host) error {
			f, _ := h.Read("/etc/tide/feed.pw")
			return e.signIn("tide1", "tidefeed.service", DN("svc-tidefeed"), strings.TrimSpace(string(f.Content)))
		},
	})
	return h
}

// program signs in to the directory at start with what its env file holds.
func (e *Estate) program(host, unit, path, nameKey, passwordKey string) func(*unixhost.Host) error {
	return func(h *unixhost.Host) error {
		f, ok := h.Read(path)
		if !ok {
			return fmt.Errorf("%s: no such file", path)
		}
		located, err := held.Locate(path, f.Content, layout.HintEnv, nil)
		if err != nil {
			return err
		}
		for _, span := range located.Spans {
			if span.Key == passwordKey && len(span.Names) > 0 {
				return e.signIn(host, unit, span.Names[0], span.Value.RevealString())
			}
		}
		return fmt.Errorf("%s: %s or %s is not set", path, nameKey, passwordKey)
	}
}

func (e *Estate) urlProgram(host, unit, path, key string) func(*unixhost.Host) error {
	return func(h *unixhost.Host) error {
		f, _ := h.Read(path)
		located, err := held.Locate(path, f.Content, layout.HintNone, nil)
		if err != nil {
			return err
		}
		for _, span := range located.Spans {
			if span.Key == key && len(span.Names) > 0 {
				return e.signIn(host, unit, span.Names[0], span.Value.RevealString())
			}
		}
		return fmt.Errorf("%s: %s is not set", path, key)
	}
}

func (e *Estate) signIn(host, unit, name, password string) error {
	if e.Directory.Down() {
		return errors.New("the directory does not answer")
	}
	if !e.Directory.Accepts(name, password) {
		return fmt.Errorf("directory refused %s: invalid credentials (49)", name)
	}
	e.lock.Lock()
	defer e.lock.Unlock()
	e.used[host+"/"+unit] = name + "\x00" + password
	return nil
}

// startBoard serves the applications' own checks: /HOST/UNIT answers "ready"
// while the unit runs and what it signed in with is still accepted.
func (e *Estate) startBoard() error {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	e.Board = "http://" + listener.Addr().String()
	e.board = &http.Server{ReadHeaderTimeout: 5 * time.Second, Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		name, unit, _ := strings.Cut(strings.Trim(r.URL.Path, "/"), "/")
		if !e.Ready(name, unit) {
			http.Error(w, "down", http.StatusServiceUnavailable)
			return
		}
		fmt.Fprintln(w, "ready")
	})}
	e.done.Add(1)
	go func() {
		defer e.done.Done()
		_ = e.board.Serve(listener) // ends with Close
	}()
	return nil
}

// Ready reports whether a unit runs on a credential that is accepted now.
func (e *Estate) Ready(host, unit string) bool {
	state := ""
	if h := e.Hosts[host]; h != nil {
		state, _ = h.UnitState(unit)
	} else if w := e.Windows[host]; w != nil {
		if state = w.State(unit); state == windowshost.Running {
			state = "active"
		}
	}
	e.lock.Lock()
	used, found := e.used[host+"/"+unit]
	e.lock.Unlock()
	if state != "active" || !found {
		return state == "active"
	}
	name, password, _ := strings.Cut(used, "\x00")
	return e.Directory.Accepts(name, password)
}

// Port splits an address of the estate.
func Port(address string) (string, int) {
	host, port, err := net.SplitHostPort(address)
	if err != nil {
		return address, 0
	}
	n, _ := strconv.Atoi(port)
	return host, n
}

// SetPassword changes a service account's password in the directory, as
// somebody would by hand.
func (e *Estate) SetPassword(name, password string) {
	e.Directory.Update(DN(name), func(entry *directory.Entry) { entry.Password, entry.Changed = password, time.Now() })
}
