package main

import (
	"context"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"tidemarker/internal/api"
)

func workerCommand(data *string) *cobra.Command {
	var runs int
	var told string
	var times timing
	c := &cobra.Command{
		Use: "worker", Short: "Works runs off, in a process or on a machine of its own with the same database", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			a, err := open(cmd.Context(), *data)
			if err != nil {
				return err
			}
			defer a.close()
			if err := a.tell(cmd.Context(), told); err != nil {
				return err
			}
			q, err := a.queue(api.NewServer(a.runner, nil, a.log), runs, times)
			if err != nil {
				return err
			}
			if err := q.Start(context.WithoutCancel(cmd.Context())); err != nil {
				return err
			}
			fmt.Fprintln(cmd.OutOrStdout(), "Working runs off. End with Ctrl-C; a run under way is taken up again later.")
			<-cmd.Context().Done()
			stopping, cancel := context.WithTimeout(context.Background(), 20*time.Second)
			defer cancel()
			q.Stop(stopping)
			return nil
		},
	}
	times.flags(c)
	c.Flags().StringVar(&told, statusFlag, "", "address, such as 127.0.0.1:9466, under which the process tells what it does (/metrics, /healthz, /readyz) without anybody signing in; by default it tells nobody")
	c.Flags().IntVar(&runs, "runs", 2, "how many runs at once")
	return c
}

// timing is how often and for how long something is done by those who work runs off.
type timing struct{ readEvery, readyFor time.Duration }

func (t *timing) flags(c *cobra.Command) {
	c.Flags().DurationVar(&t.readEvery, "read-every", 10*time.Minute, "how often every site's settings are read, to notice what is changed outside; 0 reads them only before acting")
	c.Flags().DurationVar(&t.readyFor, "ready-for", 0, "for how long a persona that was made ready for a cache isolation test is used again by later ones, for sites that do not like many sign-ins; 0 makes everybody ready again")
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
