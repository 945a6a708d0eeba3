package datastore

import (
	"crypto/rand"
	"crypto/tls"
	"encoding/base64"
	"errors"
	"fmt"
	"net"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgproto3"
	"github.com/xdg-go/scram"
)

// Postgres is a stand-in for a PostgreSQL server.
type Postgres struct {
	server
	tls *tls.Config
}

// NewPostgres makes one; config may be nil for a server without TLS.
func NewPostgres(config *tls.Config) *Postgres { return &Postgres{server: newServer(), tls: config} }

// Add adds a log-in role.
func (p *Postgres) Add(a Account) {
	p.lock.Lock()
	defer p.lock.Unlock()
	a.id = int64(16384 + len(p.accounts))
	a.verifier = verifierOf(a.Password)
	a.Password = ""
	p.accounts[a.Name] = &a
}

func verifierOf(password string) string {
	client, err := scram.SHA256.NewClient("", password, "")
	if err != nil {
		return ""
	}
	salt := make([]byte, 16)
	if _, err := rand.Read(salt); err != nil {
		return ""
	}
	stored, err := client.GetStoredCredentialsWithError(scram.KeyFactors{Salt: string(salt), Iters: 4096})
	if err != nil {
		return ""
	}
	encode := base64.StdEncoding.EncodeToString
	return fmt.Sprintf("SCRAM-SHA-256$4096:%s$%s:%s", encode(salt), encode(stored.StoredKey), encode(stored.ServerKey))
}

// Serve listens.
func (p *Postgres) Serve(address string) (string, error) { return p.serve(address, p.talk) }

// Accepts reports whether a password is that of a role now.
func (p *Postgres) Accepts(name, password string) bool {
	p.lock.Lock()
	defer p.lock.Unlock()
	a := p.accounts[name]
	if a == nil || a.Rests || !a.Until.IsZero() && a.Until.Before(time.Now()) {
		return false
	}
	stored, err := storedOf(a.verifier)
	if err != nil {
		return false
	}
	client, err := scram.SHA256.NewClient(name, password, "")
	if err != nil {
		return false
	}
	mine, err := client.GetStoredCredentialsWithError(stored.KeyFactors)
	return err == nil && string(mine.StoredKey) == string(stored.StoredKey)
}

var verifierText = regexp.MustCompile(`^SCRAM-SHA-256\$(\d+):([A-Za-z0-9+/=]+)\$([A-Za-z0-9+/=]+):([A-Za-z0-9+/=]+)$`)

func storedOf(verifier string) (scram.StoredCredentials, error) {
	m := verifierText.FindStringSubmatch(verifier)
	if m == nil {
		return scram.StoredCredentials{}, errors.New("no verifier")
	}
	iterations, _ := strconv.Atoi(m[1])
	decode := func(text string) []byte {
		raw, _ := base64.StdEncoding.DecodeString(text)
		return raw
	}
	return scram.StoredCredentials{KeyFactors: scram.KeyFactors{Salt: string(decode(m[2])), Iters: iterations}, StoredKey: decode(m[3]), ServerKey: decode(m[4])}, nil
}

// pgSession is one connection.
type pgSession struct {
	*Postgres
	backend *pgproto3.Backend
	account Account
	before  map[string]Account // all accounts at the beginning of a transaction; nil outside of one
	broken  bool               // a statement of the transaction failed
}

func (p *Postgres) talk(conn net.Conn) {
	backend := pgproto3.NewBackend(conn, conn)
	for {
		startup, err := backend.ReceiveStartupMessage()
		if err != nil {
			return
		}
		switch m := startup.(type) {
		case *pgproto3.SSLRequest:
			if p.tls == nil {
				_, _ = conn.Write([]byte{'N'})
				continue
			}
			_, _ = conn.Write([]byte{'S'})
			secured := tls.Server(conn, p.tls)
			backend = pgproto3.NewBackend(secured, secured)
		case *pgproto3.StartupMessage:
			s := &pgSession{Postgres: p, backend: backend}
			if s.signIn(m.Parameters["user"]) {
				s.answer()
			}
			return
		default:
			return
		}
	}
}

func (s *pgSession) refuse(code, message string) {
	s.backend.Send(&pgproto3.ErrorResponse{Severity: "FATAL", Code: code, Message: message})
	_ = s.backend.Flush()
}

func (s *pgSession) signIn(user string) bool {
	s.lock.Lock()
	a := s.accounts[user]
	var account Account
	if a != nil {
		account = *a
	}
	s.lock.Unlock()
	wrong := fmt.Sprintf("password authentication failed for user %q", user)
	if a == nil || !account.Until.IsZero() && account.Until.Before(time.Now()) {
		account.verifier = verifierOf(rand.Text()) // refused only at the end
	}
	server, err := scram.SHA256.NewServer(func(string) (scram.StoredCredentials, error) { return storedOf(account.verifier) })
	if err != nil {
		return false
	}
	conversation := server.NewConversation()
	s.backend.Send(&pgproto3.AuthenticationSASL{AuthMechanisms: []string{"SCRAM-SHA-256"}})
	if s.backend.Flush() != nil || s.backend.SetAuthType(pgproto3.AuthTypeSASL) != nil {
		return false
	}
	message, err := s.backend.Receive()
	first, ok := message.(*pgproto3.SASLInitialResponse)
	if err != nil || !ok {
		return false
	}
	challenge, err := conversation.Step(string(first.Data))
	if err != nil {
		s.refuse("28P01", wrong)
		return false
	}
	s.backend.Send(&pgproto3.AuthenticationSASLContinue{Data: []byte(challenge)})
	if s.backend.Flush() != nil || s.backend.SetAuthType(pgproto3.AuthTypeSASLContinue) != nil {
		return false
	}
	message, err = s.backend.Receive()
	last, ok := message.(*pgproto3.SASLResponse)
	if err != nil || !ok {
		return false
	}
	final, err := conversation.Step(string(last.Data))
	if err != nil || !conversation.Valid() {
		s.refuse("28P01", wrong)
		return false
	}
	if account.Rests { // told after the password was found right, as the real one does
		s.refuse("28000", fmt.Sprintf("role %q is not permitted to log in", user))
		return false
	}
	s.account = account
	s.backend.Send(&pgproto3.AuthenticationSASLFinal{Data: []byte(final)})
	s.backend.Send(&pgproto3.AuthenticationOk{})
	s.backend.Send(&pgproto3.ParameterStatus{Name: "server_version", Value: "15.9"})
	s.backend.Send(&pgproto3.ParameterStatus{Name: "client_encoding", Value: "UTF8"})
	s.backend.Send(&pgproto3.ParameterStatus{Name: "standard_conforming_strings", Value: "on"})
	s.backend.Send(&pgproto3.BackendKeyData{ProcessID: 4711, SecretKey: []byte{1, 2, 3, 4}})
	s.ready()
	return s.backend.Flush() == nil
}

// result of a statement.
type result struct {
	columns []string
	oids    []uint32
	rows    [][]string // "\x00" for null
	tag     string
	code    string
	message string
}

// answer takes statements in the simple and in the extended protocol.
func (s *pgSession) answer() {
	var statement string
	var current result
	var arguments [][]byte
	failed := false
	for {
		message, err := s.backend.Receive()
		if err != nil {
			return
		}
		switch m := message.(type) {
		case *pgproto3.Query:
			current = s.run(m.String, nil)
			s.describe(current)
			s.rows(current)
			s.ready()
		case *pgproto3.Parse:
			statement, current = m.Query, result{}
			s.backend.Send(&pgproto3.ParseComplete{})
		case *pgproto3.Bind:
			arguments = m.Parameters
			current = s.run(statement, arguments)
			if failed = current.code != ""; failed {
				s.backend.Send(&pgproto3.ErrorResponse{Severity: "ERROR", Code: current.code, Message: current.message})
				continue
			}
			s.backend.Send(&pgproto3.BindComplete{})
		case *pgproto3.Describe:
			if !failed {
				s.describe(current)
			}
		case *pgproto3.Execute:
			if !failed {
				s.rows(current)
			}
		case *pgproto3.Sync:
			failed = false
			s.ready()
			if s.backend.Flush() != nil {
				return
			}
			continue
		case *pgproto3.Terminate:
			return
		}
		if _, simple := message.(*pgproto3.Query); simple && s.backend.Flush() != nil {
			return
		}
	}
}

func (s *pgSession) describe(r result) {
	if r.code != "" {
		return
	}
	if r.columns == nil {
		s.backend.Send(&pgproto3.NoData{})
		return
	}
	var d pgproto3.RowDescription
	for i, name := range r.columns {
		d.Fields = append(d.Fields, pgproto3.FieldDescription{Name: []byte(name), DataTypeOID: r.oids[i], DataTypeSize: -1, TypeModifier: -1})
	}
	s.backend.Send(&d)
}

func (s *pgSession) rows(r result) {
	if r.code != "" {
		s.backend.Send(&pgproto3.ErrorResponse{Severity: "ERROR", Code: r.code, Message: r.message})
		return
	}
	for _, row := range r.rows {
		values := make([][]byte, len(row))
		for i, v := range row {
			if v != "\x00" {
				values[i] = []byte(v)
			}
		}
		s.backend.Send(&pgproto3.DataRow{Values: values})
	}
	s.backend.Send(&pgproto3.CommandComplete{CommandTag: []byte(r.tag)})
}

// Type numbers of PostgreSQL's catalogue.
const (
	oidBool, oidInt8, oidInt4, oidText, oidTextArray, oidTimestamp = 16, 20, 23, 25, 1009, 1184
)

func stamp(t time.Time) string {
	if t.IsZero() {
		return "\x00"
	}
	return t.UTC().Format("2006-01-02 15:04:05.999999-07")
}

// ready says that the next statement may come, and whether a transaction is open.
func (s *pgSession) ready() {
	status := byte('I')
	switch {
	case s.broken:
		status = 'E'
	case s.before != nil:
		status = 'T'
	}
	s.backend.Send(&pgproto3.ReadyForQuery{TxStatus: status})
}

// run knows the statements that the connector makes, and no others.
func (s *pgSession) run(statement string, arguments [][]byte) result {
	s.lock.Lock()
	defer s.lock.Unlock()
	boolean := truth
	if r, is := s.standing(statement, arguments); is {
		return r
	}
	if r, is := s.amend(statement); is && s.before == nil {
		return r
	}
	if r, is := s.rights(statement); is {
		return r
	}
	switch {
	case strings.TrimSpace(statement) == "" || strings.HasPrefix(statement, "-- ping"):
		return result{tag: ""}
	case strings.Contains(statement, "server_version"):
		return result{columns: []string{"v", "t"}, oids: []uint32{oidText, oidTimestamp}, rows: [][]string{{"15.9", stamp(s.began)}}, tag: "SELECT 1"}
	case strings.Contains(statement, "rolname = current_user"):
		return result{columns: []string{"s", "c", "p"}, oids: []uint32{oidBool, oidBool, oidBool}, rows: [][]string{{"f", boolean(s.account.Manages), boolean(s.account.Manages)}}, tag: "SELECT 1"}
	case strings.Contains(statement, "WHERE r.rolcanlogin"):
		r := result{columns: []string{"oid", "n", "s", "c", "r", "u", "d", "g", "w", "l"}, oids: []uint32{oidInt8, oidText, oidBool, oidBool, oidBool, oidTimestamp, oidText, oidTextArray, oidInt8, oidBool}}
		for _, name := range s.names() {
			a := s.accounts[name]
			if a.Rests && (len(arguments) == 0 || !slices.Contains(strings.FieldsFunc(string(arguments[0]), func(c rune) bool { return strings.ContainsRune("{},", c) }), strconv.FormatInt(a.id, 10))) {
				continue
			}
			r.rows = append(r.rows, []string{strconv.FormatInt(a.id, 10), a.Name, "f", boolean(a.Manages), "f", stamp(a.Until), a.Description, "{" + strings.Join(a.MemberOf, ",") + "}", strconv.Itoa(a.Owns), boolean(!a.Rests)})
		}
		r.tag = fmt.Sprintf("SELECT %d", len(r.rows))
		return r
	case strings.Contains(statement, "FROM pg_stat_activity"):
		r := result{columns: []string{"o", "u", "a", "p", "n", "d", "b"}, oids: []uint32{oidInt8, oidText, oidText, oidInt4, oidText, oidText, oidTimestamp}}
		list := s.sessions
		if list != nil && s.account.Manages {
			s.lock.Unlock()
			now := list()
			s.lock.Lock()
			for _, v := range now {
				if v.Since.IsZero() {
					v.Since = s.began
				}
				if a := s.accounts[v.Account]; a != nil {
					r.rows = append(r.rows, []string{strconv.FormatInt(a.id, 10), v.Account, v.Client, strconv.Itoa(v.Port), v.Application, v.Database, stamp(v.Since)})
				}
			}
		}
		r.tag = fmt.Sprintf("SELECT %d", len(r.rows))
		return r
	case strings.Contains(statement, "WHERE rolname = $1") && len(arguments) == 1:
		r := result{columns: []string{"o", "s", "u"}, oids: []uint32{oidInt8, oidBool, oidTimestamp}}
		if a := s.accounts[string(arguments[0])]; a != nil {
			r.rows = append(r.rows, []string{strconv.FormatInt(a.id, 10), "f", stamp(a.Until)})
		}
		r.tag = fmt.Sprintf("SELECT %d", len(r.rows))
		return r
	}
	return s.change(statement, arguments)
}
