// Package pack puts a certified table together with all that is needed to trust it and to run it again, and checks such a pack
// offline.
//
// A pack is a zip archive, the same bytes each time. contents.json in it is signed as certificates are, and names every file by
// its SHA-256, so that the first one that was tampered with can be told. The certificate inside names the tables,
// declarations and logs by theirs, and the check computes its figures again from them (check.go).
package pack

import (
	"archive/zip"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"proudsieve/core/certify"
)

// The files that every pack has.
const (
	CertificateFile = "certificate.jws.json"
	ContentsFile    = "contents.jws.json"
	KeysFile        = "keys.json"
	ReadmeFile      = "README.txt"
)

// Part is a file of a pack.
type Part struct {
	Path string
	Open func() (io.ReadCloser, error)
}

// Bytes is a part whose content is at hand.
func Bytes(path string, content []byte) Part {
	return Part{path, func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(string(content))), nil }}
}

// Contents names the files of a pack.
type Contents struct {
	Kind        string `json:"kind"`
	Certificate string `json:"certificate"` // the digest of the one that the pack is of
	Files       []File `json:"files"`
}

// File is a file of a pack.
type File struct {
	Path   string `json:"path"`
	Bytes  int64  `json:"bytes"`
	SHA256 string `json:"sha256"`
}

const contentsKind = "proudsieve pack 1"

// unchanging is the time of every file: a pack of the same things is the same bytes.
var unchanging = time.Date(1980, 1, 1, 0, 0, 0, 0, time.UTC)

// readme says in ten lines what a pack is, and how it is checked.
const readme = `This is a table with everything that is needed to trust it and to run it again. The table is under table/: the CSV is what was
certified, and the Parquet has the same values; of one that lies in a database, in-place.json says where, and what it was. report.html says what it may be used for and what was done, dictionary.html and
dictionary.csv what each column is, certificate.jws.json (its payload is statement.json) what was checked, changed, accepted and asked.
declarations/ has the rulebooks, fix plans and merges; logs/ every cell and row that was changed; findings.csv and findings/ what was
caught; questions.csv what the owners of the data were asked; tables/ what was put in by choice; contents.jws.json every file's SHA-256.
To see that the table is the one that was certified:
  proudsieve certificate verify table/FILE certificate.jws.json --key keys.json
To compute every figure again, without a service or a network:
  proudsieve certificate check certificate.jws.json --with THIS_PACK.zip --key KEYS_FROM_WHO_SIGNED
Ask who signed for their keys and their list of revocations; those in here only tell whether the pack is of one piece.
`

// Write writes a pack: its parts in the order of their paths, a README, and the contents, signed by a key.
func Write(out io.Writer, certificate string, parts []Part, private []byte) error {
	digest, err := certify.Digest(certificate)
	if err != nil {
		return err
	}
	parts = append(slices.Clone(parts), Bytes(CertificateFile, []byte(certificate+"\n")), Bytes(ReadmeFile, []byte(readme)))
	slices.SortFunc(parts, func(a, b Part) int { return strings.Compare(a.Path, b.Path) })
	archive := zip.NewWriter(out)
	contents := Contents{Kind: contentsKind, Certificate: digest, Files: []File{}}
	for i, p := range parts {
		if i > 0 && parts[i-1].Path == p.Path {
			return fmt.Errorf("the pack would have %s twice", p.Path)
		}
		file, err := put(archive, p)
		if err != nil {
			return fmt.Errorf("%s: %w", p.Path, err)
		}
		contents.Files = append(contents.Files, *file)
	}
	signed, err := certify.SignAny(contents, "proudsieve-pack+jws", private)
	if err != nil {
		return err
	}
	if _, err := put(archive, Bytes(ContentsFile, []byte(signed+"\n"))); err != nil {
		return err
	}
	return archive.Close()
}

func put(archive *zip.Writer, p Part) (*File, error) {
	in, err := p.Open()
	if err != nil {
		return nil, err
	}
	defer in.Close()
	out, err := archive.CreateHeader(&zip.FileHeader{Name: p.Path, Method: zip.Deflate, Modified: unchanging})
	if err != nil {
		return nil, err
	}
	digest := sha256.New()
	n, err := io.Copy(io.MultiWriter(out, digest), in)
	return &File{p.Path, n, hex.EncodeToString(digest.Sum(nil))}, err
}

// Errors that can be told apart with errors.Is.
var (
	ErrPack     = errors.New("this is no pack of Proud Sieve")
	ErrTampered = errors.New("the pack was tampered with")
)

// Pack is an open pack, every file of which was held against its signed contents.
type Pack struct {
	Certificate string
	Keys        []byte // the public keys that it brings
	Contents    Contents
	archive     *zip.Reader
	files       map[string]*zip.File
}

const (
	// filesMost and smallMost bound how many files a pack has, and how large those are that are read whole.
	filesMost = 100_000
	smallMost = 256 << 20
)

// Open opens a pack and holds every file of it against its contents, which must be signed by one of the keys; nil for the keys that
// the pack brings itself, which only tell that it is of one piece. The first file that is not what was signed is named, with
// ErrTampered.
func Open(in io.ReaderAt, size int64, keys []byte) (*Pack, error) {
	archive, err := zip.NewReader(in, size)
	if err != nil {
		return nil, fmt.Errorf("%w: %v", ErrPack, err)
	}
	if len(archive.File) > filesMost {
		return nil, fmt.Errorf("%w: it has %d files", ErrPack, len(archive.File))
	}
	p := &Pack{archive: archive, files: map[string]*zip.File{}}
	for _, f := range archive.File {
		if p.files[f.Name] != nil {
			return nil, fmt.Errorf("%w: %s is in it twice", ErrTampered, f.Name)
		}
		p.files[f.Name] = f
	}
	for name, into := range map[string]*string{CertificateFile: &p.Certificate} {
		raw, err := p.Read(name)
		if err != nil {
			return nil, fmt.Errorf("%w: it has no %s", ErrPack, name)
		}
		*into = strings.TrimSpace(string(raw))
	}
	if p.Keys, err = p.Read(KeysFile); err != nil {
		return nil, fmt.Errorf("%w: it has no %s", ErrPack, KeysFile)
	}
	if keys == nil {
		keys = p.Keys
	}
	return p, p.hold(keys)
}

// hold holds every file against the contents.
func (p *Pack) hold(keys []byte) error {
	raw, err := p.Read(ContentsFile)
	if err != nil {
		return fmt.Errorf("%w: it has no %s", ErrPack, ContentsFile)
	}
	if err := certify.OpenAny(string(raw), keys, &p.Contents); err != nil {
		return fmt.Errorf("%s: %w", ContentsFile, err)
	}
	if p.Contents.Kind != contentsKind {
		return fmt.Errorf("%w: %s is of another kind", ErrPack, ContentsFile)
	}
	digest, err := certify.Digest(p.Certificate)
	if err != nil {
		return fmt.Errorf("%s: %w", CertificateFile, err)
	}
	if digest != p.Contents.Certificate {
		return fmt.Errorf("%w: %s is another certificate than the pack is of", ErrTampered, CertificateFile)
	}
	known := map[string]bool{ContentsFile: true}
	for _, f := range p.Contents.Files {
		known[f.Path] = true
		if p.files[f.Path] == nil {
			return fmt.Errorf("%w: %s is missing", ErrTampered, f.Path)
		}
		if err := p.same(&f); err != nil {
			return err
		}
	}
	for _, f := range p.archive.File {
		if !known[f.Name] {
			return fmt.Errorf("%w: %s is none of it", ErrTampered, f.Name)
		}
	}
	return nil
}

func (p *Pack) same(f *File) error {
	in, err := p.files[f.Path].Open()
	if err != nil {
		return fmt.Errorf("%w: %s: %v", ErrTampered, f.Path, err)
	}
	defer in.Close()
	digest := sha256.New()
	n, err := io.Copy(digest, io.LimitReader(in, f.Bytes+1))
	if err != nil {
		return fmt.Errorf("%w: %s: %v", ErrTampered, f.Path, err)
	}
	if got := hex.EncodeToString(digest.Sum(nil)); n != f.Bytes || got != f.SHA256 {
		return fmt.Errorf("%w: %s is not what was signed: it has the SHA-256 %s, and not %s", ErrTampered, f.Path, got, f.SHA256)
	}
	return nil
}

// Read reads a small file of the pack.
func (p *Pack) Read(path string) ([]byte, error) {
	f := p.files[path]
	if f == nil {
		return nil, fmt.Errorf("there is no %s", path)
	}
	in, err := f.Open()
	if err != nil {
		return nil, err
	}
	defer in.Close()
	raw, err := io.ReadAll(io.LimitReader(in, smallMost+1))
	if err == nil && len(raw) > smallMost {
		err = fmt.Errorf("%s is larger than can be read at once", path)
	}
	return raw, err
}

// ByDigest opens the file of the pack with a SHA-256; nil where there is none.
func (p *Pack) ByDigest(digest string) func() (io.ReadCloser, error) {
	for _, f := range p.Contents.Files {
		if f.SHA256 == digest {
			return p.files[f.Path].Open
		}
	}
	return nil
}
