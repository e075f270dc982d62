package main

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"
)

func backupCommand(data *string) *cobra.Command {
	return &cobra.Command{
		Use: "backup FILE", Short: "Writes everything that is recorded into one file, as it is at one moment", Args: cobra.ExactArgs(1),
		Long: "FILE is - for the standard output. Secrets are in it as they lie in the database, sealed: keep the key apart from it, and do keep it. Work continues in the meantime. pg_dump of the database is as good.",
		RunE: func(cmd *cobra.Command, args []string) error {
			a, err := open(cmd.Context(), *data)
			if err != nil {
				return err
			}
			defer a.close()
			if args[0] == "-" {
				return a.store.Backup(cmd.Context(), cmd.OutOrStdout())
			}
			size, err := whole(args[0], func(w io.Writer) error { return a.store.Backup(cmd.Context(), w) })
			if err != nil {
				return err
			}
			_, err = fmt.Fprintf(cmd.OutOrStdout(), "%s has everything, in %.1f MB. To read it in again takes the key, too.\n", args[0], float64(size)/1e6)
			return err
		},
	}
}

// whole writes a file for its owner alone, whole or not at all, and says how long it is.
func whole(file string, write func(io.Writer) error) (int64, error) {
	f, err := os.CreateTemp(filepath.Dir(file), ".tidemarker-*")
	if err != nil {
		return 0, err
	}
	defer os.Remove(f.Name())
	err = write(f)
	size, sought := f.Seek(0, io.SeekEnd)
	if err = errors.Join(err, sought, f.Sync(), f.Close()); err != nil {
		return 0, err
	}
	return size, os.Rename(f.Name(), file)
}

func restoreCommand(data *string) *cobra.Command {
	return &cobra.Command{
		Use: "restore FILE", Short: "Reads a backup into a database in which there is nothing yet", Args: cobra.ExactArgs(1),
		Long: "Runs that were under way when the backup was made are resumed by the next worker: start none before you know that the sites are as they were then.",
		RunE: func(cmd *cobra.Command, args []string) error {
			a, err := open(cmd.Context(), *data)
			if err != nil {
				return err
			}
			defer a.close()
			f, err := os.Open(args[0])
			if err != nil {
				return err
			}
			defer f.Close()
			info, err := f.Stat()
			if err == nil {
				err = a.store.Restore(cmd.Context(), f, info.Size())
			}
			if err != nil {
				return err
			}
			_, total, err := a.store.Sites(cmd.Context(), "", 1, 0)
			if err != nil {
				return fmt.Errorf("it is read in, but: %w", err)
			}
			_, err = fmt.Fprintf(cmd.OutOrStdout(), "Read in: %d sites with all that is recorded of them, and everybody who may sign in.\n", total)
			return err
		},
	}
}
