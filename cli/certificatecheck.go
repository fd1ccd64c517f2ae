package cli

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"runtime"
	"time"

	"github.com/urfave/cli/v3"

	"proudsieve/core/certify"
	"proudsieve/core/certify/pack"
	"proudsieve/core/document"
)

// atHand are the files by which a certificate is checked: those of packs, and tables.
type atHand struct {
	packs  []*pack.Pack
	tables map[string]string // paths, by SHA-256
	open   []*os.File
}

// ByDigest implements pack.Files.
func (a *atHand) ByDigest(digest string) func() (io.ReadCloser, error) {
	if path, ok := a.tables[digest]; ok {
		return func() (io.ReadCloser, error) { return os.Open(path) }
	}
	for _, p := range a.packs {
		if open := p.ByDigest(digest); open != nil {
			return open
		}
	}
	return nil
}

func (a *atHand) close() {
	for _, f := range a.open {
		_ = f.Close()
	}
}

// take opens a pack, whose files are held against its contents, or notes a table by its bytes.
func (a *atHand) take(path string, keys []byte) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	a.open = append(a.open, f)
	info, err := f.Stat()
	if err != nil {
		return err
	}
	p, err := pack.Open(f, info.Size(), keys)
	if err == nil {
		a.packs = append(a.packs, p)
		return nil
	}
	if !errors.Is(err, pack.ErrPack) {
		return fmt.Errorf("%s: %w", path, err)
	}
	digest := sha256.New()
	if _, err := io.Copy(digest, io.NewSectionReader(f, 0, info.Size())); err != nil {
		return err
	}
	a.tables[hex.EncodeToString(digest.Sum(nil))] = path
	return nil
}

// spoiled reports whether an error is that something is not what was signed.
func spoiled(err error) bool {
	for _, fault := range []error{pack.ErrTampered, certify.ErrSignature, certify.ErrMalformed, certify.ErrTable, certify.ErrRevoked, certify.ErrEnded} {
		if errors.Is(err, fault) {
			return true
		}
	}
	return false
}

// checkCertificate computes every figure of a certificate again, without a service.
func checkCertificate(ctx context.Context, c *cli.Command) error {
	args, err := arguments(c, "CERTIFICATE")
	if err != nil {
		return err
	}
	o := outputOf(c)
	report, err := checked(ctx, o, args[0], c)
	if spoiled(err) {
		o.line("It does not hold: %s.", visible(err.Error()))
		return errFellShort
	}
	if err != nil {
		return err
	}
	if o.json {
		if err := o.printJSON(report); err != nil {
			return err
		}
	} else {
		o.checkReport(report)
	}
	if len(report.Of(pack.Differs)) > 0 {
		return errFellShort
	}
	return nil
}

func checked(ctx context.Context, o *output, certificate string, c *cli.Command) (*pack.Report, error) {
	var keys []byte
	if path := c.String("key"); path != "" {
		var err error
		if keys, err = os.ReadFile(path); err != nil {
			return nil, err
		}
	}
	files := &atHand{tables: map[string]string{}}
	defer files.close()
	for _, path := range c.StringSlice("with") {
		if err := files.take(path, keys); err != nil {
			return nil, err
		}
	}
	signed, err := os.ReadFile(certificate)
	if err != nil {
		return nil, err
	}
	if keys == nil {
		if len(files.packs) == 0 {
			return nil, errors.New("no pack brings keys; name those of who signed with --key")
		}
		keys = files.packs[0].Keys
		if !o.json {
			o.line("The keys are the pack's own: that it is of one piece is shown, and not who made it. Ask who signed for theirs, and give them by --key.")
		}
	}
	opened, err := certify.OpenWhole(string(signed), keys)
	if err != nil {
		return nil, err
	}
	if err := opened.Statement.OpenChain(keys); err != nil {
		return nil, err
	}
	var list *certify.Revocations
	if path := c.String("revocations"); path != "" {
		raw, err := os.ReadFile(path)
		if err != nil {
			return nil, err
		}
		if list, err = certify.OpenRevocations(string(raw), keys); err != nil {
			return nil, fmt.Errorf("%s: %w", path, err)
		}
	}
	if err := opened.Counts(time.Now(), list); err != nil {
		return nil, err
	}
	return pack.Check(ctx, opened, files, runtime.NumCPU())
}

// checkReport tells what became of each figure, the worst first.
func (o *output) checkReport(r *pack.Report) {
	words := map[pack.State]string{pack.Differs: "Differs", pack.Unchecked: "Not computed again, since what it takes is not at hand", pack.Holds: "Computed again, and the same"}
	for _, state := range []pack.State{pack.Differs, pack.Unchecked, pack.Holds} {
		lines := r.Of(state)
		if len(lines) == 0 {
			continue
		}
		o.line("%s:", words[state])
		for _, l := range lines {
			o.line("  %s: %s", visible(l.About), visible(l.Says))
		}
	}
	differs, unchecked := len(r.Of(pack.Differs)), len(r.Of(pack.Unchecked))
	switch {
	case differs > 0:
		o.line("The certificate does not hold: %s.", document.Counted(int64(differs), "thing differs", "things differ"))
	case unchecked > 0:
		o.line("Everything that could be computed again is the same; %s.", document.Counted(int64(unchecked), "thing could not be", "things could not be"))
	default:
		o.line("Every figure was computed again, and is the same. What people said and decided is theirs to answer for.")
	}
}
