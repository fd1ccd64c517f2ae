package cli

import (
	"errors"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"proudsieve/service/files"
)

// bucketFlags say which bucket is the file store of a service of several nodes.
func bucketFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "bucket", Sources: cli.EnvVars("PROUDSIEVE_BUCKET"),
			Usage: "bucket that is the file store of all nodes, as NAME or NAME/PREFIX; where it is left out the files are in the data directory"},
		&cli.StringFlag{Name: "bucket-server", Sources: cli.EnvVars("PROUDSIEVE_BUCKET_SERVER"),
			Usage: "https address of the server of the bucket, which speaks the protocol of S3"},
		&cli.StringFlag{Name: "bucket-key", Sources: cli.EnvVars("PROUDSIEVE_BUCKET_KEY"),
			Usage: "file of mode 0600 with the id of a key and, in the next line, its secret; or these in PROUDSIEVE_BUCKET_KEY_ID and PROUDSIEVE_BUCKET_SECRET"},
		&cli.StringFlag{Name: "bucket-region", Sources: cli.EnvVars("PROUDSIEVE_BUCKET_REGION"), Usage: "where the server wants to be told"},
		&cli.StringFlag{Name: "bucket-encryption", Sources: cli.EnvVars("PROUDSIEVE_BUCKET_ENCRYPTION"),
			Usage: "how the server encrypts what it keeps: AES256, or kms:NAME for a key of its own; where it is left out, as the bucket says"},
		&cli.StringFlag{Name: "bucket-authority", Sources: cli.EnvVars("PROUDSIEVE_BUCKET_AUTHORITY"),
			Usage: "file in PEM with the certificates that the server's is held against, besides the system's"},
		&cli.Int64Flag{Name: "bucket-cache", Value: files.UsualCache,
			Usage: "how many bytes of the bucket this node keeps on its disk, at least 64 MiB"},
	}
}

// bucketOf is the bucket that the flags of a command tell; nil for none.
func bucketOf(c *cli.Command) (*files.BucketOptions, error) {
	if c.String("bucket") == "" {
		if c.String("bucket-server") != "" || c.String("bucket-key") != "" {
			return nil, errors.New("--bucket-server and --bucket-key go with --bucket, which names the bucket")
		}
		return nil, nil
	}
	name, prefix, _ := strings.Cut(c.String("bucket"), "/")
	o := &files.BucketOptions{Server: c.String("bucket-server"), Name: name, Prefix: prefix, Region: c.String("bucket-region"),
		Encryption: c.String("bucket-encryption"), Authority: c.String("bucket-authority"), Cache: c.Int64("bucket-cache"),
		KeyID: os.Getenv("PROUDSIEVE_BUCKET_KEY_ID"), Secret: os.Getenv("PROUDSIEVE_BUCKET_SECRET")}
	if file := c.String("bucket-key"); file != "" {
		var err error
		if o.KeyID, o.Secret, err = files.ReadKey(file); err != nil {
			return nil, err
		}
	}
	return o, o.Check()
}
