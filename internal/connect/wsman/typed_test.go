package wsman

import (
	"encoding/xml"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const (
	poolSpace  = "http://schemas.example/wmi/root/WebAdministration/ApplicationPool"
	modelSpace = "http://schemas.example/wmi/root/WebAdministration/ProcessModelSettings"
)

// typeOf reads the type of an element as another parser understands it: the name space of
// its prefix, and the name.
func typeOf(t *testing.T, text, element string) (space, name string) {
	decoder := xml.NewDecoder(strings.NewReader(text))
	var prefixes []map[string]string
	for {
		token, err := decoder.Token()
		require.NoError(t, err, text)
		switch token := token.(type) {
		case xml.StartElement:
			own := map[string]string{}
			for _, a := range token.Attr {
				if a.Name.Space == "xmlns" {
					own[a.Name.Local] = a.Value
				}
			}
			prefixes = append(prefixes, own)
			if token.Name.Local != element {
				continue
			}
			for _, a := range token.Attr {
				if a.Name.Local != "type" {
					continue
				}
				require.Equal(t, nsInstance, a.Name.Space)
				prefix, local, found := strings.Cut(a.Value, ":")
				if !found {
					return "", a.Value
				}
				for i := len(prefixes) - 1; i >= 0; i-- {
					if space, ok := prefixes[i][prefix]; ok {
						return space, local
					}
				}
				t.Fatalf("the prefix %q is declared nowhere: %s", prefix, text)
			}
			return "", ""
		case xml.EndElement:
			prefixes = prefixes[:len(prefixes)-1]
		}
	}
}

// An instance that was read is written back as what it was: an embedded one says of which
// class it is, wherever the host declared the prefix.
func TestEmbeddedInstancesKeepTheirType(t *testing.T) {
	const xsi = ` xmlns:xsi="` + nsInstance + `"`
	for name, body := range map[string]string{
		"declared at the element":  `<p:ApplicationPool xmlns:p="` + poolSpace + `"` + xsi + ` xsi:type="p:ApplicationPool_Type"><p:Name>BerthWeb</p:Name><p:ProcessModel xmlns:q="` + modelSpace + `" xsi:type="q:ProcessModelSettings_Type"><q:IdentityType>3</q:IdentityType><q:UserName>a&amp;b</q:UserName></p:ProcessModel></p:ApplicationPool>`,
		"declared above":           `<p:ApplicationPool xmlns:p="` + poolSpace + `" xmlns:q="` + modelSpace + `"` + xsi + `><p:Name>BerthWeb</p:Name><p:ProcessModel xsi:type="q:ProcessModelSettings_Type"><q:IdentityType>3</q:IdentityType><q:UserName>a&amp;b</q:UserName></p:ProcessModel></p:ApplicationPool>`,
		"declared in the envelope": `<p:ApplicationPool><p:Name>BerthWeb</p:Name><p:ProcessModel xsi:type="q:ProcessModelSettings_Type"><q:IdentityType>3</q:IdentityType><q:UserName>a&amp;b</q:UserName></p:ProcessModel></p:ApplicationPool>`,
	} {
		outer := `<x xmlns:p="` + poolSpace + `" xmlns:q="` + modelSpace + `"` + xsi + `>` + body + `</x>`
		d := newDecoder(strings.NewReader(outer), "", Limits{})
		root, err := d.next()
		require.NoError(t, err)
		start, err := d.next()
		require.NoError(t, err)
		_ = root
		instance, err := d.tree(start, 0)
		require.NoError(t, err, name)
		instance.Child("ProcessModel").Set("Password", "Berth <&> 1")
		text := instance.write(poolSpace)
		space, local := typeOf(t, text, "ProcessModel")
		assert.Equal(t, modelSpace, space, "%s: %s", name, text)
		assert.Equal(t, "ProcessModelSettings_Type", local, name)
		assert.Contains(t, text, "Berth &lt;&amp;&gt; 1")
		assert.Contains(t, text, "a&amp;b")
		// What was written is read back the same.
		again := newDecoder(strings.NewReader(text), "", Limits{})
		start, err = again.next()
		require.NoError(t, err)
		back, err := again.tree(start, 0)
		require.NoError(t, err)
		assert.Equal(t, "a&b", back.Child("ProcessModel").Text("UserName"), name)
		assert.Equal(t, text, back.write(poolSpace), "%s: and written the same", name)
	}
}

// An instance without types gets none, and a null stays one.
func TestWhatHasNoTypeGetsNone(t *testing.T) {
	n := &Node{Space: poolSpace, Local: "ApplicationPool"}
	n.Set("Name", "x")
	n.Children = append(n.Children, &Node{Space: poolSpace, Local: "Description", Attributes: []xml.Attr{{Name: xml.Name{Space: nsInstance, Local: "nil"}, Value: "true"}}})
	text := n.write(poolSpace)
	assert.NotContains(t, text, "type=")
	assert.Contains(t, text, `xsi:nil="true"`)
	space, local := typeOf(t, text, "Description")
	assert.Empty(t, space+local)
}
