package main

import (
	"fmt"

	"github.com/spf13/cobra"

	"tidemarker/internal/outbox"
)

func outboxCommand() *cobra.Command {
	var opt outbox.Options
	c := &cobra.Command{
		Use: "outbox", Short: "Takes the mail and the payments of a staging site, sends nothing on and charges nobody", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			o, err := outbox.Start(opt)
			if err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "mail (SMTP): %s\npayments and what was caught: %s/\n", o.MailAddr, o.URL)
			<-cmd.Context().Done()
			return o.Close()
		},
	}
	c.Flags().StringVar(&opt.Mail, "mail", "127.0.0.1:2525", "address to take mail on")
	c.Flags().StringVar(&opt.Web, "web", "127.0.0.1:2580", "address of the payment page and of the list of what was caught")
	c.Flags().StringVar(&opt.Key, "key", "", "key with which outcomes of payments are signed for the shop")
	return c
}
