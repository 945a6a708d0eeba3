package demo

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
)

// marker is the file by which a demonstration knows a folder that another one
// made; it is locked while one runs there.
const marker = ".moss-demo"

const markerWords = "This folder was made by 'moss demo', which empties it when it starts here again.\n"

// TempFolder makes a folder for a demonstration.
func TempFolder() (string, error) { return os.MkdirTemp("", "moss-demo-") }

// claim makes or empties a folder and holds it until the file is closed. Only
// what a demonstration made is ever emptied.
func claim(folder string) (*os.File, error) {
	switch info, err := os.Lstat(folder); {
	case errors.Is(err, fs.ErrNotExist):
		if err := os.MkdirAll(folder, 0o700); err != nil {
			return nil, fmt.Errorf("folder of the demonstration: %w", err)
		}
	case err != nil:
		return nil, fmt.Errorf("folder of the demonstration: %w", err)
	case !info.IsDir():
		return nil, fmt.Errorf("%s is no folder: name another with --folder", folder)
	}
	entries, err := os.ReadDir(folder)
	if err != nil {
		return nil, fmt.Errorf("folder of the demonstration: %w", err)
	}
	path := filepath.Join(folder, marker)
	if len(entries) > 0 {
		raw, err := os.ReadFile(path)
		if info, linkErr := os.Lstat(path); err != nil || linkErr != nil || !info.Mode().IsRegular() || string(raw) != markerWords {
			return nil, fmt.Errorf("%s holds files that no demonstration made (%s), so it is left as it is: name an empty or a new folder with --folder", folder, some(entries))
		}
	}
	held, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE|syscall.O_NOFOLLOW, 0o600)
	if err != nil {
		return nil, fmt.Errorf("folder of the demonstration: %w", err)
	}
	if err := syscall.Flock(int(held.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		return nil, errors.Join(fmt.Errorf("a demonstration runs in %s now: end it, or name another folder with --folder", folder), held.Close())
	}
	for _, e := range entries {
		if e.Name() != marker {
			if err := os.RemoveAll(filepath.Join(folder, e.Name())); err != nil {
				return nil, errors.Join(fmt.Errorf("empty the folder of the demonstration: %w", err), held.Close())
			}
		}
	}
	if _, err := held.WriteAt([]byte(markerWords), 0); err != nil {
		return nil, errors.Join(err, held.Close())
	}
	return held, nil
}

func some(entries []fs.DirEntry) string {
	var names []string
	for _, e := range entries {
		if len(names) == 3 {
			names = append(names, "…")
			break
		}
		names = append(names, e.Name())
	}
	return strings.Join(names, ", ")
}
