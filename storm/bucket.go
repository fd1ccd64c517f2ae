package storm

import (
	"proudsieve/service/files"
	"proudsieve/service/files/standin"
)

// bucket is the file store of nodes that share no directory: a stand-in that fails now and then all the time.
type bucket struct {
	server *standin.Server
	prefix string
}

// failing is the share of requests to the bucket that go wrong throughout.
const failing = 0.02

func startBucket(seed uint64) (*bucket, error) {
	s, err := standin.Start("127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	s.Trouble(failing, seed)
	return &bucket{s, "storm"}, nil
}

// environment tells a service of it.
func (b *bucket) environment() []string {
	return []string{"PROUDSIEVE_BUCKET=" + standin.Bucket + "/" + b.prefix, "PROUDSIEVE_BUCKET_SERVER=" + b.server.URL,
		"PROUDSIEVE_BUCKET_KEY_ID=" + standin.KeyID, "PROUDSIEVE_BUCKET_SECRET=" + standin.Secret}
}

// options are the same for whoever reads it beside the service.
func (b *bucket) options() *files.BucketOptions {
	if b == nil {
		return nil
	}
	return &files.BucketOptions{Server: b.server.URL, Name: standin.Bucket, Prefix: b.prefix, KeyID: standin.KeyID, Secret: standin.Secret,
		Cache: files.UsualCache}
}
