// Command tidemarker promotes a site's speed settings through staging, looks for
// breakage after each change and rolls faulty settings back.
package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"syscall"
	_ "time/tzdata" // calendars name time zones, and not every machine has them

	"github.com/spf13/cobra"

	"tidemarker/internal/command"
)

// exit is an error that ends the program with a code of its own.
type exit struct {
	code int
	err  error
}

func (e *exit) Error() string {
	if e.err == nil {
		return ""
	}
	return e.err.Error()
}

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	root := &cobra.Command{
		Use:           "tidemarker",
		Short:         "Promotes a site's speed settings through staging, with evidence",
		SilenceErrors: true,
		SilenceUsage:  true,
	}
	var data string
	root.PersistentFlags().StringVar(&data, "data", ".data", "folder for the database that is run when DATABASE_URL is not set")
	root.AddCommand(serveCommand(&data), inviteCommand(&data), workerCommand(&data), migrateCommand(&data), siteCommand(&data), markCommand(&data),
		tryCommand(&data), findCulpritCommand(&data), predictCommand(&data), measureCommand(&data), keyCommand(), resealCommand(&data), moveBlobsCommand(&data), backupCommand(&data), auditCommand(&data), restoreCommand(&data), standinCommand(), outboxCommand(), demoCommand(&data), openAPICommand())
	root.AddCommand(command.New(connector(&data), os.Getenv("TIDEMARKER_SERVER"))...)
	root.AddCommand(manCommand(root))
	root.DisableAutoGenTag = true
	err := root.ExecuteContext(ctx)
	if err == nil {
		return
	}
	code := 1
	if e, ok := errors.AsType[*exit](err); ok {
		code = e.code
	}
	if e, ok := errors.AsType[*command.Exit](err); ok {
		code = e.Code
	}
	if msg := err.Error(); msg != "" {
		fmt.Fprintln(os.Stderr, "tidemarker:", msg)
	}
	stop()
	os.Exit(code)
}
