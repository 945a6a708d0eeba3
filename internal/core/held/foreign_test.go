package held_test

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"math/rand/v2"
	"sort"
	"strings"
	"testing"

	burnt "github.com/BurntSushi/toml"
	goccy "github.com/goccy/go-yaml"
	"github.com/magiconair/properties"
	"github.com/stretchr/testify/require"
	"gopkg.in/ini.v1"

	"mossledger.example/moss/internal/core/held"
	"mossledger.example/moss/internal/core/layout"
	"mossledger.example/moss/internal/core/secret"
)

// What we write is read by parsers that nobody here wrote, and what they write is
// read by us: documents made by a foreign writer, in which one value is a secret,
// have that value found, replaced, and nothing else changed in what a foreign
// reader sees of them.

// flat is a document as its reader sees it: values by path.
type flat map[string]string

type foreign struct {
	name  string
	path  string
	write func(r *rand.Rand, doc flat) ([]byte, error)
	read  func([]byte) (flat, error)
	// plain limits texts to what the format has a form for.
	plain func(string) bool
	// known limits texts to what its reader knows of the format.
	known func(string) bool
}

const theSecret = "db_password"

// texts that have bitten readers and writers of formats.
var nasty = []string{
	"", "plain", "with blanks inside", " lead", "trail ", "\ttab", "öäü€", "😀", "日本語", "it's", `say "hi"`, `back\slash`, `\n`, `\\`, "$HOME", "${x}", "%h", "%(a)s", "`cmd`",
	"#hash", "a #b", ";semi", "a;b", "a=b", "a: b", "- dash", "? ask", "! bang", "& and", "* star", "@at", "| pipe", "> fold", "{a}", "[a]", "a, b", "null", "~", "true", "no", "12", "1.5", "0x1f", "1e3", "2026-01-02", "12:30:45",
	"<tag>", "a & b", "]]>", "&amp;", "'", `"`, "''", `""`, "=", ":", "\u00a0nbsp", "\u2028sep", "e\u0301", "key = value", "---", "...", "%YAML 1.1", "<<", "!!str x", "0o17", "+1", ".5", ".inf", "y", "on", "'quoted'", `"quoted"`,
}

func text(r *rand.Rand) string {
	switch r.IntN(3) {
	case 0:
		return nasty[r.IntN(len(nasty))]
	case 1:
		return nasty[r.IntN(len(nasty))] + nasty[r.IntN(len(nasty))]
	}
	var out strings.Builder
	for range 1 + r.IntN(24) {
		out.WriteRune(rune(0x21 + r.IntN(0x5e)))
	}
	return out.String()
}

// tree nests a document along its paths.
func tree(doc flat) map[string]any {
	out := map[string]any{}
	for path, v := range doc {
		at := out
		steps := strings.Split(path, "/")
		for _, step := range steps[:len(steps)-1] {
			if at[step] == nil {
				at[step] = map[string]any{}
			}
			at = at[step].(map[string]any)
		}
		at[steps[len(steps)-1]] = v
	}
	return out
}

func flatten(v any, path string, into flat) flat {
	switch v := v.(type) {
	case map[string]any:
		for k, inner := range v {
			flatten(inner, strings.TrimPrefix(path+"/"+k, "/"), into)
		}
	default:
		into[path] = fmt.Sprint(v)
	}
	return into
}

func sorted(doc flat) []string {
	keys := make([]string, 0, len(doc))
	for k := range doc {
		keys = append(keys, k)
	}
	sort.Strings(keys)
	return keys
}

func oneLine(s string) bool { return !strings.ContainsAny(s, "\r\n\u2028\u2029\u0085") }

var foreigners = []foreign{
	{
		name: "json", path: "/etc/app/settings.json",
		write: func(r *rand.Rand, doc flat) ([]byte, error) {
			if r.IntN(2) == 0 {
				return json.Marshal(tree(doc))
			}
			return json.MarshalIndent(tree(doc), "", "\t")
		},
		read: func(raw []byte) (flat, error) {
			var v any
			err := json.Unmarshal(raw, &v)
			return flatten(v, "", flat{}), err
		},
	},
	{
		name: "yaml", path: "/etc/app/settings.yaml",
		write: func(_ *rand.Rand, doc flat) ([]byte, error) { return goccy.Marshal(tree(doc)) },
		read: func(raw []byte) (flat, error) {
			var v map[string]any
			err := goccy.Unmarshal(raw, &v)
			return flatten(v, "", flat{}), err
		},
		// Its writer leaves some texts bare that its own reader takes for something else.
		plain: func(s string) bool {
			var v map[string]any
			raw, err := goccy.Marshal(map[string]any{"k": s})
			bare := strings.TrimSpace(s)
			if bare == "?" || bare == ":" || bare == "-" { // no plain scalars (YAML 1.2, section 7.3.3)
				return false
			}
			return oneLine(s) && err == nil && goccy.Unmarshal(raw, &v) == nil && v["k"] == s
		},
	},
	{
		name: "toml", path: "/etc/app/settings.toml",
		write: func(_ *rand.Rand, doc flat) ([]byte, error) {
			var out bytes.Buffer
			err := burnt.NewEncoder(&out).Encode(tree(doc))
			return out.Bytes(), err
		},
		read: func(raw []byte) (flat, error) {
			var v map[string]any
			_, err := burnt.Decode(string(raw), &v)
			return flatten(v, "", flat{}), err
		},
	},
	{
		name: "properties", path: "/etc/app/app.properties",
		write: func(_ *rand.Rand, doc flat) ([]byte, error) {
			p := properties.NewProperties()
			p.DisableExpansion = true
			for _, k := range sorted(doc) {
				if _, _, err := p.Set(strings.ReplaceAll(k, "/", "."), doc[k]); err != nil {
					return nil, err
				}
			}
			var out bytes.Buffer
			_, err := p.Write(&out, properties.UTF8)
			return out.Bytes(), err
		},
		read: func(raw []byte) (flat, error) {
			l := properties.Loader{Encoding: properties.UTF8, DisableExpansion: true}
			p, err := l.LoadBytes(raw)
			if err != nil {
				return nil, err
			}
			out := flat{}
			for k, v := range p.Map() {
				out[strings.ReplaceAll(k, ".", "/")] = v
			}
			return out, nil
		},
		// Its reader does not join the two halves of a character beyond 16 bits, which
		// java.util.Properties writes and reads so.
		known: func(s string) bool { return !strings.ContainsRune(s, '😀') },
	},
	{
		name: "ini", path: "/etc/app/app.ini",
		write: func(_ *rand.Rand, doc flat) ([]byte, error) {
			f := ini.Empty(ini.LoadOptions{IgnoreInlineComment: true})
			for _, k := range sorted(doc) {
				section, key, nested := strings.Cut(k, "/")
				if !nested {
					section, key = "", k
				}
				if _, err := f.Section(section).NewKey(strings.ReplaceAll(key, "/", "_"), doc[k]); err != nil {
					return nil, err
				}
			}
			var out bytes.Buffer
			_, err := f.WriteTo(&out)
			return out.Bytes(), err
		},
		read: func(raw []byte) (flat, error) {
			f, err := ini.LoadSources(ini.LoadOptions{IgnoreInlineComment: true}, raw)
			if err != nil {
				return nil, err
			}
			out := flat{}
			for _, section := range f.Sections() {
				for _, key := range section.Keys() {
					out[section.Name()+"/"+key.Name()] = key.Value()
				}
			}
			return out, nil
		},
		// Its writer quotes with marks that only its own reader takes for quotes.
		plain: func(s string) bool {
			return oneLine(s) && s == strings.TrimSpace(s) && !strings.ContainsAny(s, "`\"'\\#;=:%") && !strings.HasPrefix(s, "[")
		},
	},
	{
		name: "xml", path: "/etc/app/app.xml",
		write: func(_ *rand.Rand, doc flat) ([]byte, error) {
			var out bytes.Buffer
			out.WriteString(xml.Header + "<settings>\n")
			for _, k := range sorted(doc) {
				out.WriteString("  <setting key=\"")
				if err := xml.EscapeText(&out, []byte(k)); err != nil {
					return nil, err
				}
				out.WriteString("\" value=\"")
				if err := xml.EscapeText(&out, []byte(doc[k])); err != nil {
					return nil, err
				}
				out.WriteString("\"/>\n")
			}
			out.WriteString("</settings>\n")
			return out.Bytes(), nil
		},
		read: func(raw []byte) (flat, error) {
			var v struct {
				Setting []struct {
					Key   string `xml:"key,attr"`
					Value string `xml:"value,attr"`
				} `xml:"setting"`
			}
			if err := xml.Unmarshal(raw, &v); err != nil {
				return nil, err
			}
			out := flat{}
			for _, s := range v.Setting {
				out[s.Key] = s.Value
			}
			return out, nil
		},
	},
}

func TestForeignReadersAndWriters(t *testing.T) {
	for _, f := range foreigners {
		t.Run(f.name, func(t *testing.T) {
			t.Parallel()
			r := rand.New(rand.NewPCG(19, 83))
			good := func() string {
				for {
					if s := text(r); f.plain == nil || f.plain(s) {
						return s
					}
				}
			}
			found, carried, refused := 0, 0, 0
			for round := range 2000 {
				old := fmt.Sprintf("Old%d-", round) + good()
				if f.plain != nil && !f.plain(old) {
					continue
				}
				doc := flat{}
				for i := range 1 + r.IntN(6) {
					doc[[]string{"", "db/", "web/", "a/b/"}[r.IntN(4)]+fmt.Sprintf("k%d", i)] = good()
				}
				doc["db/"+theSecret] = old
				raw, err := f.write(r, doc)
				require.NoError(t, err)
				before, err := f.read(raw)
				require.NoError(t, err, "%s", raw)
				located, err := held.Locate(f.path, raw, layout.HintNone, func(v secret.Value) bool { return v.RevealString() == old })
				require.NoError(t, err)
				span, spans := held.Span{}, 0
				for _, s := range located.Spans {
					if s.Value.RevealString() == old {
						span, spans = s, spans+1
					}
				}
				require.Equal(t, 1, spans, "the secret %q is found once, as the foreign reader sees it: %v\n%s", old, located.Problems, raw)
				found++
				next := fmt.Sprintf("New%d-", round) + text(r)
				if f.known != nil && !f.known(next) {
					continue
				}
				out, err := held.Splice(raw, span.Locator, secret.New(next))
				if err != nil {
					require.ErrorIs(t, err, layout.ErrCannotCarry)
					refused++
					continue
				}
				carried++
				after, err := f.read(out)
				require.NoError(t, err, "a foreign reader reads what was written for %q\n%s", next, out)
				changed := 0
				for k, v := range before {
					if after[k] != v {
						changed++
						require.Equal(t, next, after[k], "%s in\n%s", k, out)
						require.Contains(t, k, theSecret)
					}
				}
				require.Equal(t, 1, changed, "one value changed\n%s\n%s", raw, out)
				require.Len(t, after, len(before))
			}
			require.Greater(t, found, 500)
			require.Greater(t, carried, 3*refused, "%d carried, %d refused", carried, refused)
		})
	}
}
