package main

import (
	"errors"
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"tidemarker/internal/core/site"
	"tidemarker/internal/store"
)

// siteCommand has the commands about sites. Long because it is a list: one command after the other.
func siteCommand(data *string) *cobra.Command {
	c := &cobra.Command{Use: "site", Short: "Registers sites"}
	var roles bool
	imports := &cobra.Command{
		Use: "import FILE", Short: "Registers a site from a site file, or updates it", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			raw, err := os.ReadFile(args[0])
			if err != nil {
				return fmt.Errorf("read the site file: %w", err)
			}
			doc, err := site.Parse(raw)
			if err != nil {
				return fmt.Errorf("%s: %w", args[0], err)
			}
			a, err := open(cmd.Context(), *data)
			if err != nil {
				return err
			}
			defer a.close()
			_, err = a.store.SaveSite(cmd.Context(), doc, roles, a.who)
			if _, other := errors.AsType[*site.RolesChanged](err); other {
				return fmt.Errorf("nothing was changed: %w, with --roles-may-change", err)
			}
			if err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "%s is registered: %d environments, %d pages, %d personas, %d journeys.\n",
				doc.Name, len(doc.Environments), len(doc.Pages), len(doc.Personas), len(doc.Journeys))
			return nil
		},
	}
	imports.Flags().BoolVar(&roles, "roles-may-change", false, "it is meant that environments get other roles: staging is where things are tried, production where visitors are")
	c.AddCommand(imports, &cobra.Command{
		Use: "export NAME", Short: "Writes a site's file, without tokens and secret values", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			a, err := open(cmd.Context(), *data)
			if err != nil {
				return err
			}
			defer a.close()
			row, err := a.store.SiteNamed(cmd.Context(), args[0])
			if errors.Is(err, store.ErrNotFound) {
				return fmt.Errorf("there is no site %q. List them with: tidemarker site list", args[0])
			}
			if err != nil {
				return err
			}
			raw, err := row.Document.V.File()
			if err != nil {
				return err
			}
			_, err = cmd.OutOrStdout().Write(raw)
			return err
		},
	}, &cobra.Command{
		Use: "list", Short: "Lists the registered sites", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			a, err := open(cmd.Context(), *data)
			if err != nil {
				return err
			}
			defer a.close()
			all, _, err := a.store.Sites(cmd.Context(), "", 1000, 0)
			if err != nil {
				return err
			}
			for _, s := range all {
				fmt.Fprintln(cmd.OutOrStdout(), s.Name)
			}
			return nil
		},
	})
	return c
}
