package change

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"
)

// Act is what a record says that somebody did.
type Act string

// Acts.
const (
	SignedIn    Act = "signed in"
	Became      Act = "became another account"
	SetPassword Act = "set a password"
	Altered     Act = "changed an account"
)

// Record is a line of a system's own log: who signed in, or who changed an account. Who is
// empty where the log tells only that it was done.
type Record struct {
	At   time.Time
	Who  string
	From string // address or terminal
	Act  Act
	Of   string // the account that it was done to; its name, or its distinguished name
}

// Log is what a visit read of a system's records.
type Log struct {
	// Since is how far back it was read; zero when it was not.
	Since time.Time
	// Sparse: it tells changes of the accounts that it has, and nobody's sign-ins.
	Sparse  bool
	Records []Record
}

// Witness is somebody of whom a log tells something in the time in which a thing changed,
// once for each address and act.
type Witness struct {
	Who   string    `json:"who,omitempty" doc:"Account; empty where the system tells only that it was done"`
	From  string    `json:"from,omitempty" doc:"Address or terminal"`
	Act   Act       `json:"act" enum:"signed in,became another account,set a password,changed an account"`
	It    bool      `json:"it" doc:"It was done to the very account that changed; otherwise they were there at that time, and nothing more is known"`
	First time.Time `json:"first"`
	Last  time.Time `json:"last"`
	Count int       `json:"count"`
}

// Witnesses is what a system's own log tells of who may have made a change.
type Witnesses struct {
	Since time.Time `json:"since" doc:"The look before: the change was made after it"`
	Until time.Time `json:"until" doc:"The look that saw it"`
	// Back is how far back the log went, where that is not to the look before.
	Back   time.Time `json:"back,omitzero" doc:"The log went back to here only"`
	Sparse bool      `json:"sparse,omitempty" doc:"The log tells of acts on accounts, and of nobody's sign-ins"`
	List   []Witness `json:"list" nullable:"false" doc:"Whoever did something to the account itself first"`
	More   int       `json:"more,omitempty" doc:"How many are not listed"`
}

// mostWitnesses are kept for a change.
const mostWitnesses = 12

// ClocksApart is how far a system's clock may be from ours for a record to count still.
const ClocksApart = 2 * time.Minute

// Of finds who is told of in a log between two looks. names are those of the account that
// changed; none for another thing.
func (l Log) Of(since, until time.Time, names ...string) *Witnesses {
	if l.Since.IsZero() || since.IsZero() {
		return nil
	}
	out := &Witnesses{Since: since, Until: until, Sparse: l.Sparse, List: []Witness{}}
	if l.Since.After(since) {
		out.Back = l.Since
	}
	type key struct {
		who, from string
		act       Act
	}
	at := map[key]int{}
	for _, r := range l.Records {
		it := r.Of != "" && slices.ContainsFunc(names, func(name string) bool { return name != "" && strings.EqualFold(name, r.Of) })
		if r.Of != "" && !it || r.At.Before(since.Add(-ClocksApart)) || r.At.After(until.Add(ClocksApart)) {
			continue
		}
		k := key{r.Who, r.From, r.Act}
		i, known := at[k]
		if !known {
			i = len(out.List)
			at[k] = i
			out.List = append(out.List, Witness{Who: r.Who, From: r.From, Act: r.Act, It: it, First: r.At, Last: r.At})
		}
		w := &out.List[i]
		w.Count++
		if r.At.Before(w.First) {
			w.First = r.At
		}
		if r.At.After(w.Last) {
			w.Last = r.At
		}
	}
	slices.SortStableFunc(out.List, func(a, b Witness) int {
		if a.It != b.It {
			return cmp.Compare(rank(b.It), rank(a.It))
		}
		return b.Last.Compare(a.Last)
	})
	if n := len(out.List) - mostWitnesses; n > 0 {
		out.List, out.More = out.List[:mostWitnesses], n
	}
	return out
}

func rank(it bool) int {
	if it {
		return 1
	}
	return 0
}

// itsActs are acts on the very account that changed.
var itsActs = map[Act]string{SignedIn: "signed in", Became: "became it", SetPassword: "set its password", Altered: "changed it"}

// Words says it in a line; nothing where no log was read.
func (w *Witnesses) Words() string {
	if w == nil {
		return ""
	}
	var did, there []string
	for _, v := range w.List {
		if v.It {
			did = append(did, fmt.Sprintf("%s %s at %s", cmp.Or(v.Who, "somebody"), itsActs[v.Act], v.Last.UTC().Format(time.DateTime)))
			continue
		}
		words := v.Who
		if v.From != "" {
			words += " from " + v.From
		}
		if !slices.Contains(there, words) {
			there = append(there, words)
		}
	}
	var out []string
	if len(did) > 0 {
		out = append(out, strings.Join(did, ", "))
	}
	if len(there) > 0 {
		more := ""
		if w.More > 0 {
			more = fmt.Sprintf(" and %d more", w.More)
		}
		out = append(out, "signed in meanwhile: "+strings.Join(there, ", ")+more)
	}
	if len(out) == 0 && !w.Sparse && w.Back.IsZero() {
		out = append(out, "nobody signed in meanwhile, as far as the system's log tells")
	}
	if !w.Back.IsZero() {
		out = append(out, "the log goes back to "+w.Back.UTC().Format(time.DateTime)+" only")
	}
	return strings.Join(out, "; ")
}
