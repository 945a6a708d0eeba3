package store

import "io/fs"

func mustSub() fs.FS {
	sub, err := fs.Sub(migrations, "migrations")
	if err != nil {
		panic(err) // embedded at build time
	}
	return sub
}
