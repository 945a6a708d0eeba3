package bench

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/charter"
	"mossledger.example/moss/internal/core/estate"
	"mossledger.example/moss/internal/core/privilege"
)

// BenchmarkCharters holds 200 charters of eight things each against 20,000 accounts of a
// system with 4,000 groups and 6,000 lists: each account against the one that it has the
// label of, with the path and the change of each line. The goal is two seconds. Beside it a
// part of the accounts against every one.
func BenchmarkCharters(b *testing.B) {
	accounts, charters := 20_000, 200
	if testing.Short() {
		accounts = 500
	}
	random := rand.New(rand.NewPCG(3, 4))
	groups := accounts / 5
	var principals []privilege.Principal
	var memberships []privilege.Membership
	for i := range accounts {
		principals = append(principals, privilege.Principal{ID: fmt.Sprint("u", i), Kind: privilege.KindAccount, Name: fmt.Sprint("u", i)})
		for range 4 {
			memberships = append(memberships, privilege.Membership{Member: fmt.Sprint("u", i), Group: fmt.Sprint("g", random.IntN(groups))})
		}
	}
	for i := range groups { // a third of the groups lie in another one, up to many deep
		principals = append(principals, privilege.Principal{ID: fmt.Sprint("g", i), Kind: privilege.KindGroup, Name: fmt.Sprint("g", i)})
		if i%3 == 0 {
			memberships = append(memberships, privilege.Membership{Member: fmt.Sprint("g", i), Group: fmt.Sprint("g", random.IntN(groups))})
		}
	}
	verbs := []string{"select", "insert", "update", "delete"}
	var lists []privilege.List
	for i := range accounts * 3 / 10 {
		l := privilege.List{Key: fmt.Sprint(i), Decides: privilege.DecidesAny, Objects: []privilege.Object{{Kind: "table", Name: fmt.Sprint("t", i)}}}
		for range 4 {
			to := fmt.Sprint("g", random.IntN(groups))
			if random.IntN(4) == 0 {
				to = fmt.Sprint("u", random.IntN(accounts))
			}
			l.Entries = append(l.Entries, privilege.Entry{To: to, Verb: verbs[random.IntN(4)]})
		}
		lists = append(lists, l)
	}
	var documents []*charter.Document
	for i := range charters {
		var text strings.Builder
		fmt.Fprintf(&text, "charter: c%d\nmust:\n", i)
		for range 3 {
			fmt.Fprintf(&text, "  - {do: %s, to: 'table:t%d'}\n", verbs[random.IntN(4)], random.IntN(len(lists)))
		}
		fmt.Fprintf(&text, "  - member_of: g%d\nmay:\n  - {do: select, to: 'table:t%d*'}\nnever:\n  - {do: everything}\n  - {do: delete, to: 'table:t%d'}\n  - {member_of: g%d}\naccount: {password_expires: true}\n", random.IntN(groups), random.IntN(10), random.IntN(len(lists)), random.IntN(groups))
		d, err := charter.Parse(text.String())
		require.NoError(b, err)
		documents = append(documents, d)
	}
	for b.Loop() {
		begun := time.Now()
		known := charter.Known{Name: "db", Kind: "postgresql", Now: begun, Model: privilege.NewModel(privilege.NewGraph(principals, memberships), lists, nil)}
		c := charter.Compare(known, documents)
		made := time.Since(begun)
		var lines []charter.Line
		own, all := 0, 0
		begun = time.Now()
		for i := range accounts {
			c.Turn(estate.Account{StableID: fmt.Sprint("u", i), NeverExpire: true})
			lines = c.Lines(i%charters, lines[:0])
			own += len(lines)
		}
		bound := time.Since(begun)
		begun = time.Now()
		states := map[charter.State]int{}
		part := accounts / 100
		for i := range part {
			c.Turn(estate.Account{StableID: fmt.Sprint("u", i), NeverExpire: true})
			for j := range documents {
				lines = c.Lines(j, lines[:0])
				all += len(lines)
				for _, l := range lines {
					states[l.State]++
				}
			}
		}
		each := time.Since(begun)
		require.Greater(b, own, accounts*8)
		require.Greater(b, all, part*charters*8)
		fmt.Printf("%d accounts, %d charters: made ready in %v; each account with its own %v (%d lines), %d accounts with every one %v (%d lines: %v)\n", accounts, charters, made.Round(time.Millisecond), bound.Round(time.Millisecond), own, part, each.Round(time.Millisecond), all, states)
		b.ReportMetric((made + bound).Seconds(), "s/own")
		b.ReportMetric(each.Seconds(), "s/every")
	}
}
