package packfile

import (
	"archive/tar"
	"bufio"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/csv"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"github.com/klauspost/compress/zstd"

	"widelark/core/classify"
	"widelark/internal/spreadsheet"
)

// ReadSites reads a CSV file with the columns entry and categories, in any order of lines, as people write one. What is named twice has
// the categories of both. Errors are [*Error] and name the line of the file.
func ReadSites(r io.Reader, name string, t classify.Taxonomy, into map[string]string) error {
	rows := csv.NewReader(r)
	rows.ReuseRecord = true
	header, err := rows.Read()
	if err != nil {
		return wrong(name, "a line with the columns entry and categories is wanted first")
	}
	columns := make([]string, len(header))
	for i, column := range header {
		columns[i] = strings.ToLower(strings.TrimSpace(strings.TrimPrefix(column, "\uFEFF")))
	}
	entryAt, categoriesAt := slices.Index(columns, "entry"), slices.Index(columns, "categories")
	if entryAt < 0 || categoriesAt < 0 {
		return wrong(name+", line 1", "the columns entry and categories are wanted, not %s", strings.Join(columns, ", "))
	}
	known := map[string]bool{}
	for _, c := range t.Categories {
		known[c.Key] = true
	}
	sets := map[string]string{}
	for {
		row, err := rows.Read()
		var syntax *csv.ParseError
		switch {
		case errors.Is(err, io.EOF):
			return nil
		case errors.As(err, &syntax):
			return wrong(fmt.Sprintf("%s, line %d", name, syntax.Line), "%s", syntax.Err)
		case err != nil:
			return err
		}
		line, _ := rows.FieldPos(0)
		spreadsheet.PlainRow(row)
		site, err := readEntry(strings.TrimSpace(row[entryAt]))
		if err == nil {
			site.Categories, err = readCategories(row[categoriesAt], known, sets)
		}
		if err != nil {
			return wrong(fmt.Sprintf("%s, line %d", name, line), "%s", err)
		}
		if before, ok := into[site.Entry]; ok && before != site.Categories {
			site.Categories = classify.SetID(append(strings.Fields(before), strings.Fields(site.Categories)...))
		}
		into[strings.Clone(site.Entry)] = site.Categories
	}
}

// Write writes a whole pack with these sites (entry to [classify.SetID]), signed with key. Of content, the files, the format and the
// number of sites are filled in.
func Write(w io.Writer, content Content, t classify.Taxonomy, sites map[string]string, key ed25519.PrivateKey) error {
	content.Base, content.Sites = 0, int64(len(sites))
	entries := slices.Sorted(maps.Keys(sites))
	return write(w, content, t, key, func(w *csv.Writer) error {
		if err := w.Write([]string{"entry", "categories"}); err != nil {
			return err
		}
		for _, entry := range entries {
			if err := w.Write([]string{entry, sites[entry]}); err != nil {
				return err
			}
		}
		return nil
	})
}

// WriteDelta writes a pack that says only how the sites differ from those of the version content.Base.
func WriteDelta(w io.Writer, content Content, t classify.Taxonomy, before, after map[string]string, key ed25519.PrivateKey) error {
	content.Sites = int64(len(after))
	all := maps.Clone(before)
	maps.Copy(all, after)
	entries := slices.Sorted(maps.Keys(all))
	return write(w, content, t, key, func(w *csv.Writer) error {
		if err := w.Write([]string{"change", "entry", "categories"}); err != nil {
			return err
		}
		for _, entry := range entries {
			var err error
			switch now, stays := after[entry]; {
			case !stays:
				err = w.Write([]string{"gone", entry, ""})
			case before[entry] != now:
				err = w.Write([]string{"set", entry, now})
			}
			if err != nil {
				return err
			}
		}
		return nil
	})
}

// write makes the lines twice: once for the checksum, which comes first, and once for the archive.
func write(w io.Writer, content Content, t classify.Taxonomy, key ed25519.PrivateKey, lines func(*csv.Writer) error) error {
	if err := t.Check(); err != nil {
		return wrong(taxonomyName, "%s", err)
	}
	about, err := MarshalTaxonomy(t)
	if err != nil {
		return err
	}
	sum := sha256.New()
	size := &sized{w: sum}
	if err := writeLines(size, lines); err != nil {
		return err
	}
	aboutSum := sha256.Sum256(about)
	content.Format = Format
	content.Date = content.Date.UTC()
	content.Files = map[string]File{
		taxonomyName: {int64(len(about)), hex.EncodeToString(aboutSum[:])},
		sitesName:    {size.n, hex.EncodeToString(sum.Sum(nil))},
	}
	signed, err := json.Marshal(content)
	if err != nil {
		return err
	}
	m := manifest{Content: signed, Signature: &signature{
		KeyText(key.Public().(ed25519.PublicKey)), base64.StdEncoding.EncodeToString(ed25519.Sign(key, signed)),
	}}
	head, err := json.Marshal(m)
	if err != nil {
		return err
	}
	packed, err := zstd.NewWriter(w, zstd.WithEncoderConcurrency(1), zstd.WithWindowSize(8<<20))
	if err != nil {
		return err
	}
	files := tar.NewWriter(packed)
	file := func(name string, size int64) error {
		return files.WriteHeader(&tar.Header{Name: name, Mode: 0o644, Size: size, ModTime: content.Date, Format: tar.FormatPAX})
	}
	err = errors.Join(file(manifestName, int64(len(head))), ignored(files.Write(head)))
	if err != nil {
		return err
	}
	if err := errors.Join(file(taxonomyName, int64(len(about))), ignored(files.Write(about)), file(sitesName, size.n)); err != nil {
		return err
	}
	return errors.Join(writeLines(files, lines), files.Close(), packed.Close())
}

func ignored(_ int, err error) error { return err }

func writeLines(w io.Writer, lines func(*csv.Writer) error) error {
	out := bufio.NewWriterSize(w, 1<<16)
	rows := csv.NewWriter(out)
	if err := lines(rows); err != nil {
		return err
	}
	rows.Flush()
	return errors.Join(rows.Error(), out.Flush())
}

type sized struct {
	w io.Writer
	n int64
}

func (s *sized) Write(p []byte) (int, error) {
	s.n += int64(len(p))
	return s.w.Write(p)
}

// NewKey makes a key to sign with, as PEM (RFC 7468) with PKCS #8 in it (RFC 5958).
func NewKey() ([]byte, error) {
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, err
	}
	return pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}), nil
}

// ReadKey reads what [NewKey] makes.
func ReadKey(text []byte) (ed25519.PrivateKey, error) {
	block, _ := pem.Decode(text)
	if block == nil {
		return nil, errors.New("no PEM file with a private key; `widelark pack key FILE` makes one")
	}
	parsed, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	if err != nil {
		return nil, fmt.Errorf("the private key cannot be read: %w", err)
	}
	key, ok := parsed.(ed25519.PrivateKey)
	if !ok {
		return nil, errors.New("the private key is no ed25519 key")
	}
	return key, nil
}
