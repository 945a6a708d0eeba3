package least

import (
	"fmt"
	"slices"
)

// Kinds of things that statements define.
const (
	kindTable    = "table"
	kindIndex    = "index"
	kindView     = "view"
	kindSchema   = "schema"
	kindDatabase = "database"
	kindRoutine  = "routine"
	kindSequence = "sequence"
)

// Verbs of definitions, until it is known how the server grants them.
const (
	begins  = "define"
	alters  = "alter"
	removes = "remove"
)

// defining are the words behind CREATE, ALTER and DROP that are understood.
var defining = map[string]string{"table": kindTable, "index": kindIndex, "view": kindView, "schema": kindSchema, "database": kindDatabase, "function": kindRoutine, "procedure": kindRoutine, "sequence": kindSequence}

// defines reads a statement that defines something, changes its definition or removes it.
func defines(ts []token) ([]use, error) {
	verb := map[string]string{"create": begins, "alter": alters, "drop": removes}[ts[0].text]
	at := 1
	for at < len(ts) && slices.ContainsFunc([]string{"or", "replace", "unique", "temporary", "temp", "unlogged"}, func(w string) bool { return is(ts, at, w) }) {
		if is(ts, at, "temporary") || is(ts, at, "temp") {
			return nil, fmt.Errorf("what it takes to make something that is there for a while is not read")
		}
		at++
	}
	if at >= len(ts) || defining[ts[at].text] == "" || ts[at].quoted {
		return nil, fmt.Errorf("what it takes to %s this is not read", ts[0].text)
	}
	kind := defining[ts[at].text]
	at++
	for _, words := range [][]string{{"if", "not", "exists"}, {"if", "exists"}, {"concurrently"}, {"only"}} {
		if is(ts, at, words...) {
			at += len(words)
		}
	}
	if kind == kindIndex { // of a table, which is named behind ON
		for at < len(ts) && !is(ts, at, "on") {
			at++
		}
		if verb != begins && at >= len(ts) {
			return nil, fmt.Errorf("of which table the index is, the statement does not say")
		}
		at++
		if is(ts, at, "only") {
			at++
		}
	}
	t, next, ok := name(ts, at)
	if !ok {
		return nil, errNotRead
	}
	if verb == removes && is(ts, next, ",") {
		return nil, fmt.Errorf("it removes more than one thing")
	}
	for i := next; i < len(ts); i++ {
		for _, word := range []string{"select", "references", "inherits", "rename", "owner", "partition", "execute"} {
			if is(ts, i, word) {
				return nil, fmt.Errorf("what %s in it takes is not read", word)
			}
		}
	}
	return []use{{verb: verb, on: t, kind: kind}}, nil
}

// granted are the rights by which a server lets somebody define things: verb and kind of
// object of each, and whether that is the schema or database that the thing lies in.
type granted struct {
	verb, kind string
	around     bool
}

// byServer says how servers grant definitions. In PostgreSQL who owns a thing may change and
// remove it, and nobody else; what is new needs CREATE where it lies.
var byServer = map[string]map[string]map[string][]granted{
	"postgresql": {
		begins: {
			kindTable: {{"create", "schema", true}}, kindView: {{"create", "schema", true}}, kindRoutine: {{"create", "schema", true}}, kindSequence: {{"create", "schema", true}},
			kindIndex: {{"own", "table", false}, {"create", "schema", true}}, kindSchema: {{"create", "database", true}}, kindDatabase: {{"create databases", "", false}},
		},
		alters:  {kindTable: {{"own", "table", false}}, kindView: {{"own", "view", false}}, kindSequence: {{"own", "sequence", false}}},
		removes: {kindTable: {{"own", "table", false}}, kindView: {{"own", "view", false}}, kindSequence: {{"own", "sequence", false}}},
	},
	"mariadb": {
		begins:  {kindTable: {{"create", "table", false}}, kindIndex: {{"index", "table", false}}, kindRoutine: {{"create routine", "database", true}}, kindSchema: {{"create", "database", false}}, kindDatabase: {{"create", "database", false}}},
		alters:  {kindTable: {{"alter", "table", false}}},
		removes: {kindTable: {{"drop", "table", false}}, kindIndex: {{"index", "table", false}}, kindView: {{"drop", "table", false}}, kindSchema: {{"drop", "database", false}}, kindDatabase: {{"drop", "database", false}}},
	},
}
