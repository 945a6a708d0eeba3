package larkmoor

import (
	"crypto/ed25519"
	"crypto/rand"
	"crypto/tls"
	"encoding/pem"
	"errors"
	"fmt"
	"net"
	"strings"
	"time"

	"github.com/jcmturner/gokrb5/v8/keytab"
	"golang.org/x/crypto/ssh"

	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/layout"
	"mossledger.example/moss/internal/standin/datastore"
	"mossledger.example/moss/internal/standin/unixhost"
)

// Addresses that the hosts have among themselves.
const (
	bookingsAddress   = "192.0.2.41"
	tideAddress       = "192.0.2.31"
	quayAddress       = "192.0.2.22"
	bookingsDBAddress = "192.0.2.51"
	tideDBAddress     = "192.0.2.52"
)

// startStores starts the bookings database and the tide database.
func (e *Estate) startStores(config *tls.Config) error {
	e.Bookings, e.Tides, e.Stores = datastore.NewPostgres(config), datastore.NewRedis(config), map[string]string{}
	e.Bookings.Add(datastore.Account{Name: Manager, Password: ManagerPassword, Manages: true, MemberOf: []string{"bookings_owner"}})
	e.Bookings.Add(datastore.Account{Name: "svc_bookings", Password: Passwords["svc_bookings"], Description: "Bookings, on the web and at the desks", MemberOf: []string{"bookings_owner"}})
	e.Bookings.Add(datastore.Account{Name: "svc_reports", Password: Passwords["svc_reports"], Description: "Monthly reports", MemberOf: []string{"bookings_reader"}})
	e.Bookings.Add(datastore.Account{Name: "svc_fares_old", Password: "Paper-Ticket-03", Description: "Fares before the new tills", Until: time.Now().AddDate(-1, 0, 0)})
	for _, turn := range []string{"a", "b"} {
		e.Bookings.Add(datastore.Account{Name: "timetable_" + turn, Password: "Slack-Water-" + turn + "4", Description: "Timetable feed, in turns", MemberOf: []string{"timetable_reader"}})
		e.Bookings.Add(datastore.Account{Name: "fares_" + turn, Password: Passwords["fares_"+turn], Description: "Fares feed, in turns", MemberOf: []string{"fares_reader"}, Settings: []string{"role=fares_reader"}})
	}
	all := []string{"SELECT", "INSERT", "UPDATE", "DELETE", "TRUNCATE", "REFERENCES", "TRIGGER"}
	e.Bookings.Grant(
		datastore.Grant{Kind: "database", Name: "bookings", Owner: "bookings_owner", Given: map[string][]string{"PUBLIC": {"CONNECT", "TEMPORARY"}, "bookings_owner": {"CREATE", "CONNECT", "TEMPORARY"}}},
		datastore.Grant{Kind: "schema", Name: "public", Owner: "bookings_owner", Given: map[string][]string{"PUBLIC": {"USAGE"}, "bookings_owner": {"USAGE", "CREATE"}}},
		datastore.Grant{Kind: "table", Name: "public.bookings", Owner: "bookings_owner", Given: map[string][]string{"bookings_owner": all, "bookings_reader": {"SELECT"}}},
		datastore.Grant{Kind: "table", Name: "public.passengers", Owner: "bookings_owner", Given: map[string][]string{"bookings_owner": all, "bookings_reader": {"SELECT"}}},
		datastore.Grant{Kind: "table", Name: "public.timetable", Owner: "bookings_owner", Given: map[string][]string{"bookings_owner": all, "timetable_reader": {"SELECT"}}},
		datastore.Grant{Kind: "table", Name: "public.fares", Owner: "bookings_owner", Given: map[string][]string{"bookings_owner": all, "fares_reader": {"SELECT"}, "svc_fares_old": {"SELECT", "UPDATE"}}},
		// The reports were to correct one month, and never lost it again.
		datastore.Grant{Kind: "table", Name: "public.payments", Owner: "bookings_owner", Given: map[string][]string{"bookings_owner": all, "bookings_reader": {"SELECT"}, "svc_reports": {"INSERT", "UPDATE", "DELETE"}}},
	)
	e.Tides.Add(datastore.Account{Name: Manager, Password: ManagerPassword, Manages: true})
	e.Tides.Add(datastore.Account{Name: "svc_tides", Password: Passwords["svc_tides"]})
	since := time.Now().Add(-50 * time.Hour).UTC().Truncate(time.Second)
	running := func(host, unit string) bool {
		h := e.Hosts[host]
		if h == nil {
			return false
		}
		state, _ := h.UnitState(unit)
		return state == "active"
	}
	e.Bookings.SetSessions(func() []estate.Session {
		list := []estate.Session{{Account: "svc_bookings", Client: quayAddress, Port: 40110, Application: "till", Database: "bookings", Since: since}}
		if running("bookings1", "bookings.service") {
			list = append(list, estate.Session{Account: "svc_bookings", Client: bookingsAddress, Port: 52110, Application: "bookings", Database: "bookings", Since: since})
		}
		return list
	})
	e.Tides.SetSessions(func() []estate.Session {
		if !running("tide1", "tidecache.service") {
			return nil
		}
		return []estate.Session{{Account: "svc_tides", Client: tideAddress, Port: 41822, Application: "tidecache", Since: since}}
	})
	for name, serve := range map[string]func(string) (string, error){"bookings-db": e.Bookings.Serve, "tide-db": e.Tides.Serve} {
		address, err := serve("127.0.0.1:0")
		if err != nil {
			return err
		}
		e.Stores[name] = address
	}
	return nil
}

// storeProgram signs in to a data store at start with what its file holds: as user, or as
// whom the file names when that is "".
func (e *Estate) storeProgram(path, user string, accepts func(name, password string) bool) func(*unixhost.Host) error {
	return func(h *unixhost.Host) error {
		f, ok := h.Read(path)
		if !ok {
			return fmt.Errorf("%s: no such file", path)
		}
		located, err := held.Locate(path, f.Content, layout.HintNone, nil)
		if err != nil {
			return err
		}
		for _, span := range located.Spans {
			for _, name := range span.Names {
				if (user == "" || name == user) && accepts(name, span.Value.RevealString()) {
					return nil
				}
			}
		}
		return errors.New("password authentication failed for user \"" + user + "\"")
	}
}

// bookingPrograms: the bookings, whose settings nothing names, reports with the
// same password, and a copy of the settings from before a move.
func (e *Estate) bookingPrograms(h *unixhost.Host) {
	h.AddUser(unixhost.User{Name: "bookings", UID: 1005, Gecos: "Bookings", Home: "/srv/bookings", Shell: "/usr/sbin/nologin"})
	h.Write("/srv/bookings/config/database.yml", unixhost.File{Mode: 0o640, Owner: "root", Group: "bookings", Content: []byte(
		"# kept by the bookings team\nproduction: &main\n  adapter: postgresql\n  host: bookings-db.larkmoor.example\n  username: svc_bookings\n  password: \"" + Passwords["svc_bookings"] + "\" # ask Ines\n  pool: 20\nstaging:\n  <<: *main\n")})
	h.Write("/srv/bookings/config/database.yml.example", unixhost.File{Mode: 0o644, Content: []byte("production:\n  username: svc_bookings\n  password: changeme\n")})
	h.Write("/srv/bookings/releases/2024-11/config/database.yml", unixhost.File{Mode: 0o640, Content: []byte("production:\n  username: svc_bookings\n  password: \"Deck-Chair-09\"\n")})
	h.Write("/srv/bookings/README.md", unixhost.File{Mode: 0o644, Content: []byte("# Bookings\n\nSigns in to the database as svc_bookings.\n")})
	h.Write("/opt/reports/reports.properties", unixhost.File{Mode: 0o600, Content: []byte("report.month=last\nreport.url=jdbc:postgresql://bookings-db.larkmoor.example:5432/bookings?user=svc_reports&password=" + Passwords["svc_reports"] + "\n")})
	h.Write("/etc/cron.d/reports", unixhost.File{Content: []byte("0 6 1 * * odile /opt/reports/bin/monthly --settings /opt/reports/reports.properties\n")})
	h.AddUnit(unixhost.Unit{
		Name: "bookings.service", Description: "Bookings", User: "bookings", Exec: "/srv/bookings/bin/serve", Enabled: true,
		Program: e.storeProgram("/srv/bookings/config/database.yml", "svc_bookings", e.Bookings.Accepts),
	})
	h.AddProcess(unixhost.Process{PID: 3301, User: "bookings", Args: []string{"/usr/bin/psql", "postgresql://svc_reports:" + Passwords["svc_reports"] + "@bookings-db.larkmoor.example:5432/bookings"}, Environment: []string{"LANG=C"}, Folder: "/home/odile"})
	h.AddUnit(unixhost.Unit{Name: "bookings-web.service", Description: "Bookings on the web", User: "bookings", Exec: "/srv/bookings/bin/web --port 8443 --certificate " + SiteCertificate + " --key " + SiteKey, After: []string{"bookings.service"}, Program: e.siteProgram, Reload: e.siteReload})
	h.SetSockets(func() []estate.Socket {
		return []estate.Socket{
			{Listens: true, Local: "0.0.0.0", LocalPort: 8080, UID: "1005", Unit: "bookings.service", Program: "serve"},
			{Listens: true, Local: "0.0.0.0", LocalPort: SitePort, UID: "1005", Unit: "bookings-web.service", Program: "web"},
			{Listens: true, Local: "0.0.0.0", LocalPort: 22, UID: "0", Unit: "ssh.service", Program: "sshd"},
			{Local: bookingsAddress, LocalPort: 52110, Peer: bookingsDBAddress, PeerPort: 5432, UID: "1005", Unit: "bookings.service", Program: "serve"},
			{Local: bookingsAddress, LocalPort: 8080, Peer: quayAddress, PeerPort: 39004, UID: "1005", Unit: "bookings.service", Program: "serve"},
		}
	})
}

// fares: a feed that must never stand still, for which two roles take turns. A person
// looks into the database with the same one.
func (e *Estate) fares(h *unixhost.Host) {
	h.Write(faresFile, unixhost.File{Mode: 0o640, Owner: "root", Group: "tide", Content: []byte("FARES_HOST=bookings-db.larkmoor.example\nFARES_USER=fares_a\nFARES_PASSWORD=" + Passwords["fares_a"] + "\n")})
	h.Write("/var/lib/tide/.pgpass", unixhost.File{Mode: 0o600, Owner: "tide", Content: []byte("bookings-db.larkmoor.example:5432:bookings:fares_a:" + Passwords["fares_a"] + "\n")})
	h.AddUnit(unixhost.Unit{
		Name: "fares.service", Description: "Fares feed", User: "tide", Environment: []string{faresFile}, Exec: "/opt/fares/bin/feed", Enabled: true,
		Program: e.storeProgram(faresFile, "", e.Bookings.Accepts),
	})
}

const faresFile = "/etc/fares/feed.env"

// tidePrograms: a cache whose password stands in its unit file.
func (e *Estate) tidePrograms(h *unixhost.Host) {
	e.fares(h)
	unit := "Environment=TIDE_DB_USER=svc_tides \"TIDE_DB_PASSWORD=Moon%%Pulls&Sea-15\"\n"
	h.AddUnit(unixhost.Unit{
		Name: "tidecache.service", Description: "Tide cache", User: "tide", Exec: "/opt/tide/bin/cache", Enabled: true, Text: unit,
		Program: e.storeProgram("/etc/systemd/system/tidecache.service", "svc_tides", e.Tides.Accepts),
	})
	h.SetSockets(func() []estate.Socket {
		return []estate.Socket{{Local: tideAddress, LocalPort: 41822, Peer: tideDBAddress, PeerPort: 6379, UID: "1001", Unit: "tidecache.service", Program: "cache"}}
	})
	// Somebody started a gauge by hand, in a folder where nobody looks.
	h.Write("/mnt/gauge/gauge.ini", unixhost.File{Mode: 0o640, Owner: "tide", Content: []byte("[tide-db]\nhost = tide-db.larkmoor.example\nuser = svc_tides\npassword = " + Passwords["svc_tides"] + "\n")})
	h.AddProcess(unixhost.Process{PID: 2207, User: "tide", Args: []string{"/opt/tide/bin/gauge", "--quiet"}, Environment: []string{"LANG=C", "TIDE_DB_USER=svc_tides", "TIDE_DB_PASSWORD=" + Passwords["svc_tides"]}, Folder: "/mnt/gauge"})
	h.AddProcess(unixhost.Process{PID: 811, User: "tide", Group: "/system.slice/tidecache.service", Args: []string{"/opt/tide/bin/cache"}, Environment: []string{"TIDE_DB_USER=svc_tides", "TIDE_DB_PASSWORD=" + Passwords["svc_tides"]}, Folder: "/"})
}

// quayPrograms: on one of the quays a till signs in to the bookings database
// with a password that no file shows.
func (e *Estate) quayPrograms(h *unixhost.Host) {
	if h.Name != "quay2" {
		return
	}
	h.AddUser(unixhost.User{Name: "till", UID: 1007, Gecos: "Till", Home: "/var/lib/till", Shell: "/usr/sbin/nologin"})
	h.AddUnit(unixhost.Unit{Name: "till.service", Description: "Till at the quay", User: "till", Exec: "/opt/till/bin/till --desk 2", Enabled: true})
	h.SetSockets(func() []estate.Socket {
		return []estate.Socket{
			{Local: quayAddress, LocalPort: 40110, Peer: bookingsDBAddress, PeerPort: 5432, UID: "1007", Unit: "till.service", Program: "till"},
			{Local: quayAddress, LocalPort: 39004, Peer: bookingsAddress, PeerPort: 8080, UID: "1002", Unit: "gangway.service", Program: "count"},
		}
	})
}

// keyWithDoors: one key of the backup job opens three hosts, and lies where
// others can read it; another entry belongs to nobody who is known.
func (e *Estate) keyWithDoors() error {
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return err
	}
	block, err := ssh.MarshalPrivateKey(private, "backup@tide1")
	if err != nil {
		return err
	}
	public, err := ssh.NewPublicKey(private.Public())
	if err != nil {
		return err
	}
	lost, _, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return err
	}
	stranger, err := ssh.NewPublicKey(lost)
	if err != nil {
		return err
	}
	line := strings.TrimSpace(string(ssh.MarshalAuthorizedKey(public))) + " backup@tide1\n"
	e.Hosts["tide1"].Write("/var/lib/tide/.ssh/id_ed25519", unixhost.File{Mode: 0o644, Owner: "tide", Content: pem.EncodeToMemory(block)})
	e.Hosts["tide1"].Write("/var/lib/tide/.ssh/id_ed25519.pub", unixhost.File{Mode: 0o644, Owner: "tide", Content: []byte(line)})
	// The hosts know each other by their made-up addresses.
	e.Hosts["tide1"].Outgoing = net.IPv4(127, 0, 0, net.ParseIP(tideAddress).To4()[3])
	for _, h := range e.Hosts {
		h.Seen = func(peer net.IP) net.IP {
			if v4 := peer.To4(); v4 != nil && v4[3] > 9 {
				return net.IPv4(192, 0, 2, v4[3])
			}
			return peer
		}
	}
	e.Hosts["quay1"].Write("/var/lib/berth/.ssh/authorized_keys", unixhost.File{Mode: 0o600, Owner: "berth", Content: []byte("# backups\n" + line)})
	e.Hosts["quay2"].Write("/var/lib/berth/.ssh/authorized_keys", unixhost.File{Mode: 0o600, Owner: "berth", Content: []byte("from=\"192.0.2.0/24\",command=\"/usr/bin/rsync --server\" " + line)})
	e.Hosts["bookings1"].Write("/home/odile/.ssh/authorized_keys", unixhost.File{Mode: 0o600, Owner: "odile", Content: []byte(line + strings.TrimSpace(string(ssh.MarshalAuthorizedKey(stranger))) + " odile@old-laptop\n")})
	tab := keytab.New()
	for _, kind := range []int32{18, 23} {
		if err := tab.AddEntry("svc-gangway", "LARKMOOR.EXAMPLE", Passwords["svc-gangway"], time.Now(), 1, kind); err != nil {
			return err
		}
	}
	raw, err := tab.Marshal()
	if err != nil {
		return err
	}
	e.Hosts["quay1"].Write("/etc/gangway/gangway.keytab", unixhost.File{Mode: 0o600, Content: raw})
	return nil
}
