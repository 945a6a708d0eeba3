package app

import (
	"errors"

	"mossledger.example/moss/internal/records"
)

// Errors that callers decide by.
var (
	ErrInput    = errors.New("input")          // the caller can correct it
	ErrRefused  = errors.New("refused")        // a law or a rule forbids it now
	ErrNotFound = records.ErrNotFound          // there is no such thing
	ErrCannot   = errors.New("cannot be done") // this kind of system does not offer it
)
