package output

import (
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"mossledger.example/moss/internal/cli/api"
)

// ReadSecret takes a secret from a file, from standard input ("-"), or from a
// prompt; never from an argument.
func ReadSecret(cmd *cobra.Command, file, prompt string) (string, error) {
	switch file {
	case "":
		in, ok := cmd.InOrStdin().(*os.File)
		if !ok || !term.IsTerminal(int(in.Fd())) {
			return "", api.Exit(api.ExitUsage, fmt.Errorf("%s: there is no terminal to ask on; give a file, or - for standard input", prompt))
		}
		fmt.Fprint(cmd.ErrOrStderr(), prompt+": ")
		raw, err := term.ReadPassword(int(in.Fd()))
		fmt.Fprintln(cmd.ErrOrStderr())
		return string(raw), err
	case "-":
		raw, err := io.ReadAll(io.LimitReader(cmd.InOrStdin(), 1<<20))
		return strings.TrimRight(string(raw), "\r\n"), err
	}
	raw, err := os.ReadFile(file)
	return strings.TrimRight(string(raw), "\r\n"), err
}

// Ask asks a person for a line.
func Ask(cmd *cobra.Command, prompt string) (string, error) {
	in, ok := cmd.InOrStdin().(*os.File)
	if !ok || !term.IsTerminal(int(in.Fd())) {
		return "", api.Exit(api.ExitUsage, fmt.Errorf("%s: there is no terminal to ask on; give it as a flag", prompt))
	}
	fmt.Fprint(cmd.ErrOrStderr(), prompt+": ")
	var line []byte
	buf := make([]byte, 1)
	for {
		n, err := in.Read(buf)
		if n == 0 || err != nil || buf[0] == '\n' {
			return strings.TrimSpace(string(line)), nil //nolint:nilerr // the end of the input ends the line
		}
		line = append(line, buf[0])
	}
}

// Sure asks a person for yes, unless that was given; everything else is no.
func Sure(cmd *cobra.Command, yes bool, question string) error {
	if yes {
		return nil
	}
	if in, ok := cmd.InOrStdin().(*os.File); !ok || !term.IsTerminal(int(in.Fd())) {
		return api.Exit(api.ExitUsage, fmt.Errorf("%s There is no terminal to ask on: --yes says it", question))
	}
	answer, err := Ask(cmd, question+" Type yes")
	if err != nil {
		return err
	}
	if answer != "yes" {
		return api.Negative("nothing was changed")
	}
	return nil
}

// ReadText takes a text that is no secret from a file, or from standard input ("-").
func ReadText(cmd *cobra.Command, file string) (string, error) {
	in := cmd.InOrStdin()
	if file != "-" {
		f, err := os.Open(file)
		if err != nil {
			return "", api.Exit(api.ExitUsage, err)
		}
		defer f.Close()
		in = f
	}
	raw, err := io.ReadAll(io.LimitReader(in, 1<<20))
	return string(raw), err
}
