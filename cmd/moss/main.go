// Command moss is Moss Ledger: the service, its command line and its console
// in one binary. This package wires the layers together and does nothing else.
package main

import (
	"os"

	"mossledger.example/moss/internal/cli"
	"mossledger.example/moss/internal/service"
)

func main() {
	os.Exit(cli.Execute(cli.New(service.Version, serveCommand(), demoCommand(), openAPICommand())))
}
