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
	c := &cobra.Command{
		Use: "worker", Short: "Works rounds off, in a process or on a machine of its own with the same database", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			a, err := open(cmd.Context(), *data)
			if err != nil {
				return err
			}
			defer a.close()
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
	c.Flags().IntVar(&rounds, "rounds", 2, "how many rounds at once")
	return c
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
