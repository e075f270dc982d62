package main

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"tidemarker/internal/secret"
)

// Where the keys come from with which secrets are sealed in the database, and which variables tokens may come from.
const (
	keyVariable       = "TIDEMARKER_KEY"
	keyFileVariable   = "TIDEMARKER_KEY_FILE"
	variablesVariable = "TIDEMARKER_TOKEN_VARIABLES"
)

// keysOf are this process's keys: from the file or the variable that says so, else from a file in the folder of the database
// that we run ourselves, which is made at the first time. Without any of them there are none.
func keysOf(data string, own bool) (secret.Keys, error) {
	if file := os.Getenv(keyFileVariable); file != "" {
		return keysIn(file)
	}
	if text := os.Getenv(keyVariable); text != "" {
		keys, err := secret.Parse(text)
		if err != nil {
			return keys, fmt.Errorf("%s: %w", keyVariable, err)
		}
		return keys, nil
	}
	if !own {
		return secret.Keys{}, nil
	}
	file := filepath.Join(data, "secret.key")
	if _, err := os.Stat(file); errors.Is(err, fs.ErrNotExist) {
		if err := makeKey(file); err != nil {
			return secret.Keys{}, fmt.Errorf("make a key: %w", err)
		}
	}
	return keysIn(file)
}

// makeKey writes a new key, whole or not at all; one that another process made meanwhile stays.
func makeKey(file string) error {
	f, err := os.CreateTemp(filepath.Dir(file), "secret-*") // for its owner alone
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	_, err = f.WriteString(secret.NewKey() + "\n")
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	if err := os.Link(f.Name(), file); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	return nil
}

func keysIn(file string) (secret.Keys, error) {
	info, err := os.Stat(file)
	if err != nil {
		return secret.Keys{}, fmt.Errorf("read the key: %w", err)
	}
	if info.Mode().Perm()&0o077 != 0 {
		return secret.Keys{}, fmt.Errorf("others may read the key in %s. Take that from them: chmod 600 %s", file, file)
	}
	raw, err := os.ReadFile(file)
	if err != nil {
		return secret.Keys{}, fmt.Errorf("read the key: %w", err)
	}
	keys, err := secret.Parse(string(raw))
	if err != nil {
		return keys, fmt.Errorf("%s: %w", file, err)
	}
	return keys, nil
}

func keyCommand() *cobra.Command {
	return &cobra.Command{
		Use: "key", Short: "Prints a new key, with which secrets are sealed in the database", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			_, err := fmt.Fprintln(cmd.OutOrStdout(), secret.NewKey())
			return err
		},
	}
}

func resealCommand(data *string) *cobra.Command {
	return &cobra.Command{
		Use: "reseal", Short: "Seals all secrets in the database again, with the first key", Args: cobra.NoArgs,
		Long: "To replace a key: put the new one below the old one in the key file of every process and restart them; put it on top and restart them; run this; take the old one out.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			a, err := open(cmd.Context(), *data)
			if err != nil {
				return err
			}
			defer a.close()
			n, err := a.store.Reseal(cmd.Context())
			if err != nil {
				return err
			}
			_, err = fmt.Fprintf(cmd.OutOrStdout(), "Sealed with the first key: the secrets of %d sites and environments. Keys below it are no longer needed.\n", n)
			return err
		},
	}
}
