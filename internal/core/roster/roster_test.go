package roster

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestGoodRowsSurviveBadOnes(t *testing.T) {
	list := "\xef\xbb\xbfname,address,port,kind,owner\r\n" +
		"quay1,192.0.2.1,,unix-host,\"Kern, Odile\"\r\n" +
		"quay1,192.0.2.9,,,\r\n" + // duplicate
		"bad port,192.0.2.2,x,,\r\n" +
		"crane,192.0.2.3,99999,,\r\n" +
		"few,fields\r\n" +
		"\"broken,192.0.2.4,,,\r\n" +
		"kind1,192.0.2.5,,toaster,\r\n" +
		strings.Repeat("x", 300) + ",,,,\r\n" +
		strings.Repeat("y", 10<<20) + "\r\n" +
		"\xff\xfe,,,,\r\n" +
		"søster-ø,2001:db8::1,,,\r\n" +
		"quay2,192.0.2.6:2222,,,\r\n" +
		"last,192.0.2.7,,,"
	rows, problems, err := Read(strings.NewReader(list))
	require.NoError(t, err)
	var names []string
	for _, r := range rows {
		names = append(names, r.Name)
	}
	assert.Equal(t, []string{"quay1", "søster-ø", "quay2", "last"}, names)
	assert.Equal(t, "Kern, Odile", rows[0].Owner)
	assert.Equal(t, 2222, rows[2].Port)
	var lines []int
	for _, p := range problems {
		lines = append(lines, p.Line)
		assert.NotEmpty(t, p.String())
		assert.Less(t, len(p.String()), 300, "a problem does not repeat a whole line")
	}
	assert.ElementsMatch(t, []int{3, 4, 5, 6, 7, 8, 9, 10, 11}, lines, "%v", problems)
}

func TestPlainListsAndHopelessOnes(t *testing.T) {
	rows, problems, err := Read(strings.NewReader("# hosts\nquay1\n\nquay2:2222\nbad name\n"))
	require.NoError(t, err)
	require.Len(t, rows, 2)
	assert.Equal(t, 2222, rows[1].Port)
	assert.Len(t, problems, 1)
	for name, list := range map[string]string{"empty": "", "only comments": "# x\n", "no name": "address,port\n192.0.2.1,22\n", "unknown column": "name,colour\na,red\n", "broken header": "\"name,a\nx,y\n"} {
		_, _, err := Read(strings.NewReader(list))
		assert.ErrorIs(t, err, ErrNoList, name)
	}
}

func TestNearest(t *testing.T) {
	known := []string{"quay1", "bookings1", "tide1"}
	for name, want := range map[string]string{"bokings1": "bookings1", "qauy1": "quay1", "tide": "tide1", "harbour": ""} {
		got, _ := Nearest(name, known)
		assert.Equal(t, want, got, name)
	}
}

func FuzzRead(f *testing.F) {
	for _, seed := range []string{"name\na\n", "name,port\na,1\nb,2\n", "a\nb\n", "name,address\r\n\"a\",b\r\n"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, list string) {
		rows, _, err := Read(strings.NewReader(list))
		if err != nil {
			return
		}
		seen := map[string]bool{}
		for _, r := range rows {
			require.NotEmpty(t, r.Name)
			require.LessOrEqual(t, len(r.Name), MaxName)
			require.False(t, seen[strings.ToLower(r.Name)])
			seen[strings.ToLower(r.Name)] = true
		}
	})
}

// What a spreadsheet writes is read, with whatever it puts between fields and lines.
func TestListsOfSpreadsheets(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 2))
	texts := []string{"", "Kern, Odile", "a;b", "tab\there", `say "hi"`, "  blanks  ", "=1+1", "søster", "#hash", "日本語"}
	for _, comma := range ",;\t" {
		for round := range 300 {
			var out bytes.Buffer
			if round%3 == 0 {
				out.WriteString("\xef\xbb\xbf")
			}
			w := csv.NewWriter(&out)
			w.Comma, w.UseCRLF = comma, round%2 == 0
			columns := []string{"name", "address", "port", "kind", "owner", "site"}
			r.Shuffle(len(columns), func(i, j int) { columns[i], columns[j] = columns[j], columns[i] })
			head := slices.Clone(columns)
			if round%5 == 0 {
				for i := range head {
					head[i] = strings.ToUpper(head[i])
				}
			}
			require.NoError(t, w.Write(head))
			var want []Row
			for i := range 1 + r.IntN(5) {
				row := Row{Name: fmt.Sprintf("host%d", i), Address: fmt.Sprintf("192.0.2.%d", i+1), Port: 22 + i, Kind: "unix-host", Owner: texts[r.IntN(len(texts))], Site: texts[r.IntN(len(texts))]}
				value := map[string]string{"name": row.Name, "address": row.Address, "port": fmt.Sprint(row.Port), "kind": row.Kind, "owner": row.Owner, "site": row.Site}
				var line []string
				for _, c := range columns {
					line = append(line, value[c])
				}
				if strings.HasPrefix(line[0], "#") {
					continue // it would be a remark
				}
				require.NoError(t, w.Write(line))
				row.Owner, row.Site = strings.TrimSpace(row.Owner), strings.TrimSpace(row.Site)
				want = append(want, row)
			}
			w.Flush()
			rows, problems, err := Read(bytes.NewReader(out.Bytes()))
			require.NoError(t, err, out.String())
			require.Empty(t, problems, out.String())
			for i := range rows {
				rows[i].Line = 0
			}
			require.Equal(t, len(want), len(rows), out.String())
			for i := range want {
				require.Equal(t, want[i], rows[i], out.String())
			}
		}
	}
	rows, problems, err := Read(strings.NewReader("quay1;quay2\n"))
	require.NoError(t, err)
	require.Empty(t, rows, "no header: a name cannot have it")
	require.Len(t, problems, 1)
}

// Spreadsheets and people leave remarks behind names; a # within a name is none.
func TestRemarksBehindNames(t *testing.T) {
	rows, problems, err := Read(strings.NewReader("# the quays\nquay1   # on the left\n  quay2\t#right\nquay#3\n   # nothing\nquay4:2022 # its own port\n"))
	require.NoError(t, err)
	assert.Empty(t, problems)
	var names []string
	for _, r := range rows {
		names = append(names, r.Name)
	}
	assert.Equal(t, []string{"quay1", "quay2", "quay#3", "quay4"}, names)
	assert.Equal(t, 2022, rows[3].Port)
}

func TestTheNearestFew(t *testing.T) {
	known := []string{"svc-berth", "svc-birth", "svc-bert", "SVC-BERTH2", "svc-tidefeed", "svc-berth"}
	assert.Equal(t, []string{"svc-berth", "svc-birth", "svc-bert"}, Near("svc-brth", known, 3), "fewer slips first, each name once")
	assert.Equal(t, []string{"svc-birth", "svc-bert", "SVC-BERTH2"}, Near("svc-berth", known, 9), "itself is no answer")
	assert.Empty(t, Near("svc-manifest", known, 3))
	assert.Empty(t, Near("svc-brth", known, 0))
}
