package content

import (
	"context"
	"io"

	"proudsieve/core/guard"
	"proudsieve/core/intake/delimited"
)

// blocksAhead is how many blocks are read before somebody asks for them.
const blocksAhead = 4

// StreamBlocks reads by columns on a goroutine of its own, as blocks are asked for; closing what it returns ends that.
func StreamBlocks(ctx context.Context, c Columnar) delimited.Blocks {
	ctx, cancel := context.WithCancel(ctx)
	s := &blockStream{blocks: make(chan *delimited.Block, blocksAhead), cancel: cancel}
	guard.Go(func() error {
		return c.Blocks(ctx, func(b *delimited.Block) error {
			select {
			case s.blocks <- b:
				return nil
			case <-ctx.Done():
				return ctx.Err()
			}
		})
	}, func(err error) {
		s.err = err
		close(s.blocks)
	})
	return s
}

type blockStream struct {
	blocks chan *delimited.Block
	err    error // of the reading, once blocks is closed
	cancel context.CancelFunc
}

// Next implements delimited.Blocks.
func (s *blockStream) Next() (*delimited.Block, error) {
	if b, ok := <-s.blocks; ok {
		return b, nil
	}
	if s.err != nil {
		return nil, s.err
	}
	return nil, io.EOF
}

// Close implements delimited.Blocks.
func (s *blockStream) Close() error {
	s.cancel()
	for range s.blocks { // until the reading has ended, which may have the file open
	}
	return nil
}
