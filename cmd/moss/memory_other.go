//go:build !linux

package main

import "errors"

// guardMemory says that nothing is done here.
func guardMemory() error { return errors.New("core dumps are not turned off on this operating system") }
