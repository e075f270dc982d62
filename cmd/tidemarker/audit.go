package main

import (
	"encoding/json"
	"fmt"

	"github.com/spf13/cobra"

	"tidemarker/internal/core/audit"
)

func auditCommand(data *string) *cobra.Command {
	c := &cobra.Command{Use: "audit", Short: "The history as a record"}
	c.AddCommand(verifyCommand(data))
	return c
}

// verified is what was found of one chain.
type verified struct {
	Site    int64  `json:"site"` // 0: what is about no site
	Name    string `json:"name"`
	Entries int64  `json:"entries"`
	Last    string `json:"last"` // hash of the last entry; of the last that is whole when it is broken
	Broken  string `json:"broken"`
}

func verifyCommand(data *string) *cobra.Command {
	asJSON := false
	c := &cobra.Command{
		Use: "verify", Short: "Says whether the history is as it was recorded", Args: cobra.NoArgs,
		Long: "Each site's history is a chain, and so is what is about no site: each entry has a hash of the one before it and of itself. Keep the last hashes elsewhere: a chain that was rewritten from the beginning is whole, and ends otherwise.\n\n" +
			"Ends with 0 when all are whole, 1 when one is not, 3 when it could not be looked at.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			all, err := verifyAll(cmd, *data)
			if err != nil {
				return &exit{3, err}
			}
			out := cmd.OutOrStdout()
			if asJSON {
				enc := json.NewEncoder(out)
				enc.SetIndent("", "  ")
				if err := enc.Encode(all); err != nil {
					return err
				}
			}
			broken := 0
			for _, v := range all {
				state := "whole"
				if v.Broken != "" {
					broken++
					state = "BROKEN: " + v.Broken
				}
				if !asJSON {
					_, _ = fmt.Fprintf(out, "%-32s %8d entries, last %-16.16s  %s\n", v.Name, v.Entries, v.Last, state)
				}
			}
			if broken > 0 {
				return &exit{1, fmt.Errorf("%d of %d histories are not as they were recorded", broken, len(all))}
			}
			return nil
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "write JSON, with whole hashes")
	return c
}

// verifyAll holds each history against its chain.
func verifyAll(cmd *cobra.Command, data string) ([]verified, error) {
	ctx := cmd.Context()
	a, err := open(ctx, data)
	if err != nil {
		return nil, err
	}
	defer a.close()
	all := []verified{}
	add := func(site int64, name string, c audit.Chain) {
		all = append(all, verified{site, name, c.Entries, c.Last(), c.Broken})
	}
	team, err := a.store.VerifyChain(ctx, 0)
	if err != nil {
		return nil, err
	}
	add(0, "(about no site)", team)
	for offset := 0; ; {
		sites, _, err := a.store.Sites(ctx, "", 200, offset)
		if err != nil || len(sites) == 0 {
			return all, err
		}
		for _, s := range sites {
			c, err := a.store.VerifyChain(ctx, s.ID)
			if err != nil {
				return nil, err
			}
			add(s.ID, s.Name, c)
		}
		offset += len(sites)
	}
}
