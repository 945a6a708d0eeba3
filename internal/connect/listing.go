package connect

import "context"

// Listed is a system that another system knows of.
type Listed struct {
	Name    string
	Address string
	OS      string
	Where   string // its place there, such as a distinguished name
}

// Lister lists the systems that a system knows of: the computers in a
// directory subtree.
type Lister interface {
	ListSystems(ctx context.Context, target Target, base string) ([]Listed, error)
}
