package main

import (
	"context"
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"tidemarker/internal/objects"
	"tidemarker/internal/store"
)

// Where pictures and bodies lie when that is not the database: a bucket of a store that speaks S3.
const (
	objectsURL        = "TIDEMARKER_S3_URL"
	objectsBucket     = "TIDEMARKER_S3_BUCKET"
	objectsPrefix     = "TIDEMARKER_S3_PREFIX"
	objectsRegion     = "TIDEMARKER_S3_REGION"
	objectsKey        = "TIDEMARKER_S3_KEY"
	objectsSecret     = "TIDEMARKER_S3_SECRET"      //nolint:gosec // the name of a variable
	objectsSecretFile = "TIDEMARKER_S3_SECRET_FILE" //nolint:gosec // the name of a variable
)

// bucketOf is the bucket that the variables name; nil when they name none.
func bucketOf(ctx context.Context, get func(string) string) (*objects.Bucket, error) {
	cfg := objects.Config{URL: get(objectsURL), Bucket: get(objectsBucket), Prefix: get(objectsPrefix), Region: get(objectsRegion), Key: get(objectsKey)}
	if cfg.URL == "" {
		return nil, nil
	}
	if cfg.Bucket == "" {
		return nil, fmt.Errorf("%s is missing: the name of a bucket", objectsBucket)
	}
	var err error
	if cfg.Secret, err = secretOf(get, objectsSecret, objectsSecretFile); err != nil {
		return nil, err
	}
	return objects.Open(ctx, cfg)
}

// useObjects tells the store of the bucket that is configured, if one is.
func (a *app) useObjects(ctx context.Context) error {
	b, err := bucketOf(ctx, os.Getenv)
	if err != nil || b == nil {
		return err
	}
	a.store.UseObjects(b)
	return nil
}

func moveBlobsCommand(data *string) *cobra.Command {
	var to string
	c := &cobra.Command{
		Use: "move-pictures", Short: "Moves pictures and bodies from the database into the object store, or back",
		Long: "Moves pictures and bodies from the database into the object store that TIDEMARKER_S3_URL and its fellows name, or back. Work continues in the meantime. Ended at any point, it continues from there the next time.",
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if to != "objects" && to != "database" {
				return fmt.Errorf("--to %q: it is objects or database", to)
			}
			a, err := open(cmd.Context(), *data)
			if err != nil {
				return err
			}
			defer a.close()
			moved, err := a.store.MoveBlobs(cmd.Context(), to == "objects", func(r store.Removed) {
				if r.Blobs%1000 == 0 {
					fmt.Fprintf(cmd.OutOrStdout(), "%d, %.1f MB\n", r.Blobs, float64(r.Bytes)/1e6)
				}
			})
			fmt.Fprintf(cmd.OutOrStdout(), "%d pictures and bodies were moved, %.1f MB.\n", moved.Blobs, float64(moved.Bytes)/1e6)
			return err
		},
	}
	c.Flags().StringVar(&to, "to", "", "objects or database")
	_ = c.MarkFlagRequired("to")
	return c
}
