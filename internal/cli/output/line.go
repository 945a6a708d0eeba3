package output

import (
	"fmt"
	"io"
	"os"

	"github.com/spf13/cobra"
	"golang.org/x/term"
)

// Line is a line at the foot of a terminal that is written over again and again: how
// far something is. It goes to standard error; where that is no terminal, or nobody
// wants remarks, it is silent.
type Line struct {
	out   io.Writer // nil when silent
	shown bool
}

// NewLine makes one for a command.
func NewLine(cmd *cobra.Command) *Line {
	file, isFile := cmd.ErrOrStderr().(*os.File)
	quiet, _ := cmd.Flags().GetBool("quiet")
	if !isFile || quiet || !term.IsTerminal(int(file.Fd())) || os.Getenv("TERM") == "dumb" {
		return &Line{}
	}
	return &Line{out: file}
}

// Show writes over what stood there.
func (l *Line) Show(text string) {
	if l.out == nil || text == "" {
		return
	}
	l.shown = true
	fmt.Fprint(l.out, "\r\x1b[K"+text)
}

// Clear takes it away, before something else is printed.
func (l *Line) Clear() {
	if l.shown {
		l.shown = false
		fmt.Fprint(l.out, "\r\x1b[K")
	}
}
