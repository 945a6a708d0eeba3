package charter

import (
	"embed"
	"path"
	"slices"
	"strings"
)

//go:embed ready/*.yaml
var readyFiles embed.FS

// Ready is a charter that comes with the program, to begin with.
type Ready struct {
	Name        string `json:"name"`
	Description string `json:"description"`
	Document    string `json:"document" doc:"In YAML; names of groups and objects in it are to be put in"`
}

// AllReady lists them by name: for usual roles, and for the program's own stewards, one for
// each kind of system.
func AllReady() []Ready {
	entries, err := readyFiles.ReadDir("ready")
	if err != nil {
		panic(err) // they are part of the program
	}
	var out []Ready
	for _, e := range entries {
		raw, err := readyFiles.ReadFile(path.Join("ready", e.Name()))
		if err != nil {
			panic(err)
		}
		d, err := Parse(string(raw))
		if err != nil {
			panic(e.Name() + ": " + err.Error())
		}
		out = append(out, Ready{Name: d.Name, Description: d.Description, Document: string(raw)})
	}
	slices.SortFunc(out, func(a, b Ready) int { return strings.Compare(a.Name, b.Name) })
	return out
}
