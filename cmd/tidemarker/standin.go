package main

import (
	"fmt"

	"github.com/spf13/cobra"

	"tidemarker/internal/standin"
)

func standinCommand() *cobra.Command {
	var opt standin.Options
	c := &cobra.Command{
		Use: "standin", Short: "Runs one environment of the invented site Fernhollow, with its speed layer and connector", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			inst, err := standin.StartFernhollow(opt)
			if err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "%s of %s: %s, connector %s\n", inst.Environment, inst.Site, inst.URL, inst.ConnectorURL())
			<-cmd.Context().Done()
			return inst.Close()
		},
	}
	c.Flags().StringVar(&opt.Environment, "env", "staging", "which environment it is")
	c.Flags().StringVar(&opt.Addr, "listen", "127.0.0.1:0", "address to listen on")
	c.Flags().StringVar(&opt.Token, "token", "fernhollow", "bearer token of the connector")
	c.Flags().StringVar((*string)(&opt.Tells), "tells", "cache-status", "by what its answers tell that they were cached: cache-status, header, age, marker or none")
	c.Flags().StringVar(&opt.Keep, "keep", "", "file to keep the settings in")
	c.Flags().StringVar(&opt.Desk.Mail, "mail", "", "host and port of the mail server its mail goes to; see the command outbox")
	c.Flags().StringVar(&opt.Desk.Pay, "pay", "", "address of the payment page its orders go to")
	c.Flags().StringVar(&opt.Desk.Key, "pay-key", "", "key with which that page signs")
	return c
}
