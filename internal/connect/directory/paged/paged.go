// Package paged reads large searches of a directory, page by page (RFC 2696), on a connection
// of its own.
package paged

import (
	"bufio"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"strings"
	"time"

	ber "github.com/go-asn1-ber/asn1-ber"
	"github.com/go-ldap/ldap/v3"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/directory/refusal"
	"mossledger.example/moss/internal/connect/directory/rights"
)

// Reader reads large searches. go-ldap builds a tree of objects for every
// element of every entry, which costs more than the directory's own work; a
// Reader takes each search entry (RFC 4511, section 4.5.2) apart in place.
// Requests, filters and controls are still encoded by the libraries.
type Reader struct {
	conn   net.Conn
	in     *bufio.Reader
	target connect.Target
	trace  connect.Trace
	id     int64
	names  map[string]string
	stop   func() bool

	requestTime time.Duration
}

// PageSize is how many entries one page of a search has.
const PageSize = 1000

// Limits on what is believed of a peer.
const (
	maxMessage = 16 << 20 // bytes of one LDAP message
	maxDepth   = 1 << 16  // values of one entry
)

var errGarbage = errors.New("the answer is not LDAP")

// Open signs in on a connection, which it owns from then on. requestTime is how long one
// page may take.
func Open(ctx context.Context, conn net.Conn, target connect.Target, requestTime time.Duration) (*Reader, *connect.Failure) {
	s := &Reader{conn: conn, in: bufio.NewReaderSize(conn, 256<<10), target: target, trace: connect.TraceOf(ctx), names: map[string]string{}, requestTime: requestTime}
	s.stop = context.AfterFunc(ctx, func() { _ = conn.Close() })
	bind := ber.Encode(ber.ClassApplication, ber.TypeConstructed, ldap.ApplicationBindRequest, nil, "")
	bind.AppendChild(ber.NewInteger(ber.ClassUniversal, ber.TypePrimitive, ber.TagInteger, 3, ""))
	bind.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, target.Steward.Account, ""))
	bind.AppendChild(ber.NewString(ber.ClassContext, ber.TypePrimitive, 0, target.Steward.Password.RevealString(), ""))
	err := s.send(bind, nil)
	if err == nil {
		var message element
		if message, err = s.message(); err == nil {
			err = resultError(message.op)
		}
	}
	if err != nil {
		s.Close()
		return nil, refusal.Failure(target, connect.StageSignIn, err, target.Steward.Password)
	}
	return s, nil
}

// Close ends the connection.
func (s *Reader) Close() {
	s.stop()
	_ = s.conn.Close()
}

func (s *Reader) send(op *ber.Packet, controls []ldap.Control) error {
	s.id++
	message := ber.Encode(ber.ClassUniversal, ber.TypeConstructed, ber.TagSequence, nil, "")
	message.AppendChild(ber.NewInteger(ber.ClassUniversal, ber.TypePrimitive, ber.TagInteger, s.id, ""))
	message.AppendChild(op)
	if len(controls) > 0 {
		list := ber.Encode(ber.ClassContext, ber.TypeConstructed, 0, nil, "")
		for _, c := range controls {
			list.AppendChild(c.Encode())
		}
		message.AppendChild(list)
	}
	_, err := s.conn.Write(message.Bytes())
	return networkError(err)
}

func networkError(err error) error {
	if err == nil {
		return nil
	}
	return ldap.NewError(ldap.ErrorNetwork, err)
}

// Page is what one page of a search brought.
type Page struct {
	Entries   []*ldap.Entry
	Referrals int
	Err       error
	cookie    []byte
}

// search asks for one page and reads it.
func (s *Reader) search(base, filter string, attributes []string, cookie []byte) (page Page) {
	begun := time.Now()
	defer func() {
		s.trace.Tell(connect.Ended("ldap", fmt.Sprintf("search -b %q -s sub %q %s", base, filter, strings.Join(attributes, " ")), begun, page.Err, nil))
	}()
	compiled, err := ldap.CompileFilter(filter)
	if err != nil {
		return Page{Err: err}
	}
	op := ber.Encode(ber.ClassApplication, ber.TypeConstructed, ldap.ApplicationSearchRequest, nil, "")
	op.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, base, ""))
	op.AppendChild(ber.NewInteger(ber.ClassUniversal, ber.TypePrimitive, ber.TagEnumerated, uint64(ldap.ScopeWholeSubtree), ""))
	op.AppendChild(ber.NewInteger(ber.ClassUniversal, ber.TypePrimitive, ber.TagEnumerated, uint64(ldap.NeverDerefAliases), ""))
	op.AppendChild(ber.NewInteger(ber.ClassUniversal, ber.TypePrimitive, ber.TagInteger, uint64(0), ""))
	op.AppendChild(ber.NewInteger(ber.ClassUniversal, ber.TypePrimitive, ber.TagInteger, uint64(0), ""))
	op.AppendChild(ber.NewBoolean(ber.ClassUniversal, ber.TypePrimitive, ber.TagBoolean, false, ""))
	op.AppendChild(compiled)
	list := ber.Encode(ber.ClassUniversal, ber.TypeConstructed, ber.TagSequence, nil, "")
	for _, a := range attributes {
		list.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, a, ""))
	}
	op.AppendChild(list)
	paging := ldap.NewControlPaging(PageSize)
	paging.SetCookie(cookie)
	controls := []ldap.Control{paging}
	if slices.Contains(attributes, rights.AttributeDescriptor) {
		controls = append(controls, rights.OwnerAndRules)
	}
	if slices.Equal(attributes, rights.TimedLinks) {
		controls = append(controls, rights.TimesOfLinks)
	}
	if err := s.send(op, controls); err != nil {
		return Page{Err: err}
	}
	out := Page{Entries: make([]*ldap.Entry, 0, PageSize)}
	for {
		message, err := s.message()
		if err != nil {
			out.Err = err
			return out
		}
		switch message.tag {
		case ldap.ApplicationSearchResultEntry:
			entry, err := s.entry(message.op)
			if err != nil {
				out.Err = ldap.NewError(ldap.ErrorUnexpectedResponse, err)
				return out
			}
			out.Entries = append(out.Entries, entry)
		case ldap.ApplicationSearchResultReference:
			out.Referrals++
		case ldap.ApplicationSearchResultDone:
			out.Err = resultError(message.op)
			out.cookie = pagingCookie(message.rest)
			return out
		default:
			out.Err = ldap.NewError(ldap.ErrorUnexpectedResponse, fmt.Errorf("%w: operation %d in a search", errGarbage, message.tag))
			return out
		}
	}
}

// element is one LDAP message: its operation and the controls behind it.
type element struct {
	tag  int
	op   []byte
	rest []byte
}

// message reads one LDAP message.
func (s *Reader) message() (element, error) {
	head, err := s.in.Peek(2)
	if err != nil {
		return element{}, networkError(err)
	}
	if head[0] != 0x30 {
		return element{}, ldap.NewError(ldap.ErrorUnexpectedMessage, fmt.Errorf("%w: it begins with %#x", errGarbage, head[0]))
	}
	size, width := int(head[1]), 2
	if size >= 0x80 {
		n := size & 0x7f
		if n == 0 || n > 4 {
			return element{}, ldap.NewError(ldap.ErrorUnexpectedMessage, errGarbage)
		}
		if head, err = s.in.Peek(2 + n); err != nil {
			return element{}, networkError(err)
		}
		var wide [4]byte
		copy(wide[4-n:], head[2:])
		size, width = int(binary.BigEndian.Uint32(wide[:])), 2+n
	}
	if size > maxMessage {
		return element{}, ldap.NewError(ldap.ErrorUnexpectedMessage, fmt.Errorf("a message of %d bytes, at most %d are read", size, maxMessage))
	}
	raw := make([]byte, width+size)
	if _, err := io.ReadFull(s.in, raw); err != nil {
		return element{}, networkError(err)
	}
	body := raw[width:]
	_, _, body, ok := next(body) // the message's number
	if !ok {
		return element{}, ldap.NewError(ldap.ErrorUnexpectedMessage, errGarbage)
	}
	tag, op, rest, ok := next(body)
	if !ok || tag&0xc0 != 0x40 {
		return element{}, ldap.NewError(ldap.ErrorUnexpectedMessage, errGarbage)
	}
	return element{int(tag & 0x1f), op, rest}, nil
}

// next takes one BER element off (X.690, definite lengths and single-byte
// tags, which is all that LDAP uses: RFC 4511, section 5.1).
func next(raw []byte) (tag byte, content, rest []byte, ok bool) {
	if len(raw) < 2 || raw[0]&0x1f == 0x1f {
		return 0, nil, nil, false
	}
	size, width := int(raw[1]), 2
	if size >= 0x80 {
		n := size & 0x7f
		if n == 0 || n > 4 || len(raw) < 2+n {
			return 0, nil, nil, false
		}
		size = 0
		for _, b := range raw[2 : 2+n] {
			size = size<<8 | int(b)
		}
		width += n
	}
	if size < 0 || size > len(raw)-width {
		return 0, nil, nil, false
	}
	return raw[0], raw[width : width+size], raw[width+size:], true
}

// entry takes a search entry apart. Values are parts of one copy.
func (s *Reader) entry(op []byte) (*ldap.Entry, error) {
	_, dn, rest, ok := next(op)
	if !ok {
		return nil, errGarbage
	}
	_, list, _, ok := next(rest)
	if !ok {
		return nil, errGarbage
	}
	// One string for the whole entry; values are parts of it. A slice's
	// capacity tells where it begins, because all end where op's does.
	text := string(op)
	part := func(raw []byte) string {
		at := cap(op) - cap(raw)
		return text[at : at+len(raw)]
	}
	e := &ldap.Entry{DN: part(dn), Attributes: make([]*ldap.EntryAttribute, 0, 12)}
	count := 0
	for len(list) > 0 {
		var one, name, set []byte
		if _, one, list, ok = next(list); !ok {
			return nil, errGarbage
		}
		if _, name, one, ok = next(one); !ok {
			return nil, errGarbage
		}
		if _, set, _, ok = next(one); !ok {
			return nil, errGarbage
		}
		a := &ldap.EntryAttribute{Name: s.name(name)}
		for len(set) > 0 {
			var value []byte
			if _, value, set, ok = next(set); !ok {
				return nil, errGarbage
			}
			if count++; count > maxDepth {
				return nil, fmt.Errorf("%s has more than %d values", e.DN, maxDepth)
			}
			a.Values, a.ByteValues = append(a.Values, part(value)), append(a.ByteValues, value)
		}
		e.Attributes = append(e.Attributes, a)
	}
	return e, nil
}

// name gives the few attribute names one string each.
func (s *Reader) name(raw []byte) string {
	if known, ok := s.names[string(raw)]; ok {
		return known
	}
	text := string(raw)
	if len(s.names) < 1000 {
		s.names[text] = text
	}
	return text
}

// resultError reads an LDAP result (RFC 4511, section 4.1.9).
func resultError(op []byte) error {
	_, code, rest, ok := next(op)
	if !ok || len(code) == 0 || len(code) > 2 {
		return ldap.NewError(ldap.ErrorUnexpectedResponse, errGarbage)
	}
	n := 0
	for _, b := range code {
		n = n<<8 | int(b)
	}
	if n == 0 {
		return nil
	}
	_, _, rest, _ = next(rest)
	_, words, _, _ := next(rest)
	return ldap.NewError(uint16(n), errors.New(string(words)))
}

// pagingCookie finds the cookie of a paged search (RFC 2696) in the controls.
func pagingCookie(controls []byte) []byte {
	_, list, _, ok := next(controls)
	for ok && len(list) > 0 {
		var one []byte
		if _, one, list, ok = next(list); !ok {
			return nil
		}
		_, kind, rest, okKind := next(one)
		if !okKind || string(kind) != ldap.ControlTypePaging {
			continue
		}
		for len(rest) > 0 {
			var tag byte
			var value []byte
			if tag, value, rest, ok = next(rest); !ok {
				return nil
			}
			if tag != 0x04 { // the criticality
				continue
			}
			if _, inner, _, ok := next(value); ok {
				if _, _, after, ok := next(inner); ok {
					if _, cookie, _, ok := next(after); ok {
						return cookie
					}
				}
			}
			return nil
		}
	}
	return nil
}

// Prefetch reads pages ahead of their use, so that the directory works while
// what it sent is taken in. It ends with the context.
func (s *Reader) Prefetch(ctx context.Context, base, filter string, attributes []string) <-chan Page {
	pages := make(chan Page, 3)
	go func() {
		defer close(pages)
		var cookie []byte
		for {
			_ = s.conn.SetReadDeadline(time.Now().Add(s.requestTime))
			p := s.search(base, filter, attributes, cookie)
			repeats := len(p.Entries) == 0 && len(p.cookie) > 0 && string(p.cookie) == string(cookie)
			cookie = p.cookie
			if repeats {
				p.Err = ldap.NewError(ldap.ErrorUnexpectedResponse, errors.New("the directory's paging does not end"))
			}
			select {
			case pages <- p:
			case <-ctx.Done():
				return
			}
			if p.Err != nil || len(cookie) == 0 {
				return
			}
		}
	}()
	return pages
}
