package main

import (
	"context"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"tidemarker/internal/work"
)

func workerCommand(data *string) *cobra.Command {
	var rounds int
	var every time.Duration
	c := &cobra.Command{
		Use: "worker", Short: "Works rounds off, in a process or on a machine of its own with the same database", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			a, err := open(cmd.Context(), *data)
			if err != nil {
				return err
			}
			defer a.close()
			a.runner.ReadEvery = every
			q, err := work.NewQueue(a.runner, rounds)
			if err != nil {
				return err
			}
			if err := q.Start(context.WithoutCancel(cmd.Context())); err != nil {
				return err
			}
			fmt.Fprintln(cmd.OutOrStdout(), "Working rounds off. End with Ctrl-C; a round under way is taken up again later.")
			<-cmd.Context().Done()
			stopping, cancel := context.WithTimeout(context.Background(), 20*time.Second)
			defer cancel()
			q.Stop(stopping)
			return nil
		},
	}
	readEveryFlag(c, &every)
	c.Flags().IntVar(&rounds, "rounds", 2, "how many rounds at once")
	return c
}

// readEveryFlag says how often all environments are read, so that what is changed
// outside is known before somebody wants to act.
func readEveryFlag(c *cobra.Command, every *time.Duration) {
	c.Flags().DurationVar(every, "read-every", 10*time.Minute, "how often every site's settings are read, to notice what is changed outside; 0 reads them only before acting")
}

func migrateCommand(data *string) *cobra.Command {
	return &cobra.Command{
		Use: "migrate", Short: "Brings the database up to date", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			a, err := open(cmd.Context(), *data)
			if err != nil {
				return err
			}
			defer a.close()
			fmt.Fprintln(cmd.OutOrStdout(), "The database is up to date.")
			return nil
		},
	}
}
