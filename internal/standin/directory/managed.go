package directory

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	ber "github.com/go-asn1-ber/asn1-ber"

	"mossledger.example/moss/internal/core/privilege/descriptor"
)

// Classes that a domain of level 5 and above has, with the ids by which descriptors name them
// ([MS-ADSC]).
const (
	ManagedClass = "msDS-GroupManagedServiceAccount"
	rootKeyClass = "msKds-ProvRootKey"
)

var classes = map[string]string{ManagedClass: "7b8b558a-93a5-4af7-adca-c017e67f1057", rootKeyClass: "aa02fd41-17e0-4f18-8687-b2239649736b"}

// managedPlace is the container that a domain has for managed accounts, and its id ([MS-ADTS],
// section 6.1.1.4).
const managedPlace = "1EB93889E40C45DF9F0C64D23BBB6237"

func (s *Server) configuration() string { return "CN=Configuration," + s.forest() }

func (s *Server) rootKeys() string {
	return "CN=Master Root Keys,CN=Group Key Distribution Service,CN=Services," + s.configuration()
}

// level is the functional level of the domain, its forest and its controller.
func (s *Server) level() int {
	if s.config.Level == 0 {
		return 7
	}
	return s.config.Level
}

// addManaged puts in what a domain needs to have managed accounts: a schema that has them from
// level 5 on, and places for them and for root keys.
func (s *Server) addManaged() {
	schema, services := "CN=Schema,"+s.configuration(), "CN=Services,"+s.configuration()
	container := map[string][]string{"objectClass": {"top", "container"}}
	s.Add(Entry{DN: schema, Attributes: map[string][]string{"objectClass": {"top", "dMD"}}})
	s.Add(Entry{DN: services, Attributes: map[string][]string{"objectClass": {"top", "container"}}})
	place := "CN=Managed Service Accounts," + s.config.Base
	s.Add(Entry{DN: place, Attributes: container})
	s.entries[normal(s.config.Base)].Attributes["otherWellKnownObjects"] = []string{"B:32:" + managedPlace + ":" + place}
	if s.level() < 5 {
		return
	}
	for class := range classes {
		s.Add(Entry{DN: "CN=" + class + "," + schema, Attributes: map[string][]string{"objectClass": {"top", "classSchema"}, "lDAPDisplayName": {class}}})
	}
	s.Add(Entry{DN: "CN=Group Key Distribution Service," + services, Attributes: map[string][]string{"objectClass": {"top", "container"}}})
	s.Add(Entry{DN: s.rootKeys(), Attributes: map[string][]string{"objectClass": {"top", "container"}}})
}

// AddRootKey puts a root key in, with when it was created and when it begins.
func (s *Server) AddRootKey(id string, created, begins time.Time) {
	s.Add(Entry{DN: "CN=" + id + "," + s.rootKeys(), Attributes: map[string][]string{
		"objectClass": {"top", rootKeyClass}, "cn": {id}, "msKds-CreateTime": {ticks(created)}, "msKds-UseStartTime": {ticks(begins)},
	}, material: material()})
}

// Join puts a member into a group, as of a time.
func (s *Server) Join(group, member string, at time.Time) (int, string) {
	s.lock.Lock()
	defer s.lock.Unlock()
	e := s.entries[normal(group)]
	if e == nil {
		return 32, "no such object"
	}
	code, words := (&client{Server: s}).member(e, 0, []string{member})
	if code == 0 {
		e.joined[normal(member)] = at
	}
	return code, words
}

// GroupsOf are the names of the groups that an account is itself a member of.
func (s *Server) GroupsOf(account string) (out []string) {
	s.lock.Lock()
	defer s.lock.Unlock()
	if e := s.find(account); e != nil {
		for _, dn := range e.Attributes["memberOf"] {
			if g := s.entries[normal(dn)]; g != nil {
				out = append(out, first(g, "sAMAccountName"))
			}
		}
	}
	return out
}

// Leave takes a member out of a group.
func (s *Server) Leave(group, member string) {
	s.lock.Lock()
	defer s.lock.Unlock()
	if e := s.entries[normal(group)]; e != nil {
		_, _ = (&client{Server: s}).member(e, 1, []string{member}) // one that is no member is none afterwards
	}
}

// Permit says which groups or hosts may ask for the password of a managed account.
func (s *Server) Permit(account string, principals ...string) {
	s.lock.Lock()
	defer s.lock.Unlock()
	e := s.entries[normal(account)]
	var entries []descriptor.Entry
	for _, dn := range principals {
		if who := s.entries[normal(dn)]; who != nil && len(who.Attributes["objectSid"]) > 0 {
			entries = append(entries, descriptor.Entry{Mask: descriptor.ReadProperty, Trustee: sidOf([]byte(who.Attributes["objectSid"][0]))})
		}
	}
	if e != nil {
		e.Attributes["msDS-GroupMSAMembership"] = []string{string(descriptor.Build(s.domainSID(512), entries...))}
	}
}

// hidden: root keys are shown to administrators only.
func (c *client) hidden(e *Entry) bool {
	return !c.who.Admin && slices.Contains(e.Attributes["objectClass"], rootKeyClass)
}

// construct adds what a directory works out where it is asked for by name.
func (c *client) construct(e *Entry, shown map[string][]string, wanted []string) {
	if !c.config.Windows {
		return
	}
	for _, name := range wanted {
		switch strings.ToLower(name) {
		case "allowedchildclasseseffective":
			for class, id := range classes {
				if c.level() >= 5 && c.may(c.who, e, descriptor.CreateChild, id) {
					shown["allowedChildClassesEffective"] = append(shown["allowedChildClassesEffective"], class)
				}
			}
		case "msds-replvaluemetadata":
			for _, dn := range e.Attributes["member"] {
				if at, told := e.joined[normal(dn)]; told {
					when := at.UTC().Format("2006-01-02T15:04:05Z")
					shown["msDS-ReplValueMetaData"] = append(shown["msDS-ReplValueMetaData"], fmt.Sprintf("<DS_REPL_VALUE_META_DATA>\n\t<pszAttributeName>member</pszAttributeName>\n\t<pszObjectDn>%s</pszObjectDn>\n\t<cbData>0</cbData>\n\t<pbData></pbData>\n\t<ftimeDeleted>1601-01-01T00:00:00Z</ftimeDeleted>\n\t<ftimeCreated>%s</ftimeCreated>\n\t<dwVersion>1</dwVersion>\n\t<ftimeLastOriginatingChange>%s</ftimeLastOriginatingChange>\n</DS_REPL_VALUE_META_DATA>\n\x00", escaped(dn), when, when))
				}
			}
		case "msds-managedpassword": // constructed, for who may have it, and only where it is asked for by name
			if isManaged(e) && c.mayFetch(e, c.tokenOf(c.who, time.Time{})) {
				if blob, err := c.passwordsOf(e); err == nil {
					shown["msDS-ManagedPassword"] = []string{blob.RevealString()}
				}
			}
		case "whenchanged":
			shown["whenChanged"] = []string{e.Changed.UTC().Format("20060102150405.0Z")}
		}
	}
}

// escaped writes a name so that it can stand in XML.
func escaped(text string) string {
	return strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;").Replace(text)
}

func (s *Server) rootLevels(root map[string][]string) {
	level := strconv.Itoa(s.level())
	root["domainFunctionality"], root["forestFunctionality"], root["domainControllerFunctionality"] = []string{level}, []string{level}, []string{level}
	root["schemaNamingContext"] = []string{"CN=Schema," + s.configuration()}
}

// Operations that create entries (RFC 4511, section 4.7).
const (
	opAdd      = 8
	opAddReply = 9
)

func (c *client) doAdd(id int64, op *ber.Packet) {
	fault := c.faultNow()
	code, words := 2, "malformed add"
	if len(op.Children) == 2 {
		c.lock.Lock()
		code, words = c.add(text(op.Children[0]), op.Children[1].Children, fault)
		c.lock.Unlock()
	}
	if fault.LoseAnswer && code == 0 {
		c.cut = true
		return
	}
	c.result(id, opAddReply, code, words)
}

// add creates a managed account, and nothing else: what a real directory demands of one is
// demanded here.
func (c *client) add(dn string, list []*ber.Packet, fault Fault) (int, string) {
	attributes := map[string][]string{}
	for _, a := range list {
		if len(a.Children) != 2 {
			return 2, "malformed attribute"
		}
		for _, v := range a.Children[1].Children {
			attributes[text(a.Children[0])] = append(attributes[text(a.Children[0])], text(v))
		}
	}
	_, above, _ := strings.Cut(dn, ",")
	parent, name := c.entries[normal(above)], strings.Join(attributes["sAMAccountName"], "")
	switch {
	case c.who == nil:
		return 1, "00002020: Operation unavailable without authentication"
	case fault.ReadOnly:
		return 10, "0000202B: RefErr: DSID-031007F9, data 0, 1 access points"
	case fault.RefuseChange:
		return 53, "the directory is unwilling to create entries now"
	case !c.config.Windows || !slices.Contains(attributes["objectClass"], ManagedClass) || c.level() < 5:
		return 53, "0000202B: this directory creates managed accounts only, from level 5 on"
	case c.entries[normal(dn)] != nil:
		return 68, "00002071: an object of that name is there already"
	case parent == nil:
		return 32, "00000525: no such object: " + above
	case !c.may(c.who, parent, descriptor.CreateChild, classes[ManagedClass]):
		return 50, "00002098: insufficient access rights to create an object there"
	case !strings.HasSuffix(name, "$") || len(name) > 16 || len(attributes["dNSHostName"]) != 1:
		return 19, "00002082: the name of a managed account ends with a $ and has at most 15 characters before it, and it has one DNS name"
	case c.keyInEffect() == nil:
		return 53, "8009000D: there is no root key in effect"
	}
	for _, k := range c.order {
		e := c.entries[k]
		if strings.EqualFold(first(e, "sAMAccountName"), name) {
			return 68, "00000524: an account of that name is there already"
		}
		for _, s := range attributes["servicePrincipalName"] {
			if slices.ContainsFunc(e.Attributes["servicePrincipalName"], func(other string) bool { return strings.EqualFold(other, s) }) {
				return 19, "000021C7: the service principal name " + s + " is not unique in the forest"
			}
		}
	}
	rdn, _, _ := strings.Cut(dn, ",")
	attributes["objectClass"], attributes["cn"] = []string{"top", "person", "organizationalPerson", "user", "computer", ManagedClass}, []string{rdn[strings.IndexByte(rdn, '=')+1:]}
	own := descriptor.Entry{Mask: descriptor.FullControl, Trustee: sidOf([]byte(first(c.who, "objectSid")))}
	c.put(Entry{DN: dn, Attributes: attributes, allowed: []descriptor.Entry{own}})
	return 0, ""
}

// keyInEffect is one that has begun; nil for none. One that was made to begin before it was there
// is used at once.
func (s *Server) keyInEffect() *Entry {
	for _, k := range s.order {
		e := s.entries[k]
		begins, err := strconv.ParseInt(first(e, "msKds-UseStartTime"), 10, 64)
		if err == nil && begins <= (s.config.Now().Unix()+11644473600)*1e7 && slices.Contains(e.Attributes["objectClass"], rootKeyClass) {
			return e
		}
	}
	return nil
}
