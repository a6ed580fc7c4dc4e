package packfile

import (
	"archive/tar"
	"bufio"
	"bytes"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/base64"
	"encoding/csv"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"

	"github.com/klauspost/compress/zstd"

	"widelark/core/classify"
	"widelark/core/pattern"
)

// Reader reads a pack. Its content and taxonomy are known to be the maker's; that of the sites is known when [Reader.EachSite] has
// come to its end.
type Reader struct {
	Content
	Signer   string // the public key, see [KeyText]
	Taxonomy classify.Taxonomy

	files  *tar.Reader
	packed *zstd.Decoder
}

// Open reads a pack as far as its taxonomy. It is refused with an [*Error] where it is no pack, damaged, or signed by none of the trusted
// keys (see [KeyText]). The caller closes the reader.
func Open(r io.Reader, trusted []string) (_ *Reader, err error) {
	packed, err := zstd.NewReader(r, zstd.WithDecoderMaxMemory(64<<20), zstd.WithDecoderConcurrency(1))
	if err != nil {
		return nil, damaged(err)
	}
	p := &Reader{files: tar.NewReader(packed), packed: packed}
	defer func() {
		if err != nil {
			p.Close()
		}
	}()
	text, err := p.next(manifestName, maxManifest)
	if err != nil {
		return nil, err
	}
	if err := p.readManifest(text, trusted); err != nil {
		return nil, err
	}
	if text, err = p.next(taxonomyName, min(maxTaxonomy, p.Files[taxonomyName].Bytes)); err != nil {
		return nil, err
	}
	if sum := sha256.Sum256(text); hex.EncodeToString(sum[:]) != p.Files[taxonomyName].SHA256 {
		return nil, wrong(taxonomyName, "not as it was signed")
	}
	p.Taxonomy, err = UnmarshalTaxonomy(text)
	return p, err
}

// Close gives the memory back. It does not close what the pack is read from.
func (p *Reader) Close() { p.packed.Close() }

// damaged says that a pack cannot be read to its end. Where that is the source's fault, the error has the source's in it.
func damaged(err error) error {
	return &Error{Msg: fmt.Sprintf("no pack, or damaged, or not whole (%s)", err), cause: err}
}

// header moves to the file that must come now.
func (p *Reader) header(name string) error {
	head, err := p.files.Next()
	switch {
	case err != nil:
		return damaged(err)
	case head.Name != name || head.Typeflag != tar.TypeReg:
		return wrong("", "%s is wanted where %q stands", name, head.Name)
	}
	return nil
}

// next reads the file that must come now, if it is no longer than so many bytes.
func (p *Reader) next(name string, most int64) ([]byte, error) {
	if err := p.header(name); err != nil {
		return nil, err
	}
	text, err := io.ReadAll(io.LimitReader(p.files, most+1))
	switch {
	case err != nil:
		return nil, damaged(err)
	case int64(len(text)) > most:
		return nil, wrong(name, "longer than it may be (%d bytes)", most)
	}
	return text, nil
}

func (p *Reader) readManifest(text []byte, trusted []string) error {
	var m manifest
	if err := json.Unmarshal(text, &m); err != nil {
		return wrong(manifestName, "no manifest: %s", err)
	}
	if m.Signature == nil {
		return wrong(manifestName, "the pack is not signed")
	}
	key, err := ParseKey(m.Signature.Key)
	if err != nil {
		return wrong(manifestName, "the signature's key: %s", err)
	}
	p.Signer = m.Signature.Key
	known := false
	for _, one := range trusted {
		known = known || one == p.Signer
	}
	sign, err := base64.StdEncoding.DecodeString(m.Signature.Ed25519)
	switch {
	case err != nil || !ed25519.Verify(key, m.Content, sign):
		return wrong(manifestName, "the signature does not fit the content: it was changed after it was signed")
	case !known:
		return wrong(manifestName, "signed by the key %s, which nobody here trusts", p.Signer)
	}
	if err := json.Unmarshal(m.Content, &p.Content); err != nil {
		return wrong(manifestName, "no manifest: %s", err)
	}
	switch {
	case p.Format != Format:
		return wrong(manifestName, "format %d; this service reads format %d", p.Format, Format)
	case !classify.ValidKey(p.Key):
		return wrong(manifestName, "%q cannot name a pack: letters a to z, digits and single hyphens are wanted", p.Key)
	case p.Name == "" || len(p.Name) > 200:
		return wrong(manifestName, "a name of at most 200 bytes is wanted")
	case p.Version < 1 || p.Base < 0 || p.Base >= p.Version:
		return wrong(manifestName, "version %d on base %d makes no sense", p.Version, p.Base)
	case p.Sites < 0 || p.Files[sitesName].Bytes < 0:
		return wrong(manifestName, "counts below nothing")
	}
	return nil
}

// EachSite gives every line of the pack to each, in order, and checks it: an entry that cannot be, one out of order or twice, a category that
// the taxonomy does not have and a file that is not as it was signed are each an [*Error]. Only when EachSite has returned nil are the
// sites known to be the maker's. An error of each ends it and is returned.
func (p *Reader) EachSite(each func(Site) error) error {
	if err := p.header(sitesName); err != nil {
		return err
	}
	declared := p.Files[sitesName]
	sum := sha256.New()
	text := &counted{r: io.TeeReader(io.LimitReader(p.files, declared.Bytes+1), sum)}
	rows := bufio.NewScanner(text)
	rows.Buffer(make([]byte, 0, maxLine), maxLine)
	columns := []string{"entry", "categories"}
	if p.Base > 0 {
		columns = []string{"change", "entry", "categories"}
	}
	if !rows.Scan() && errors.Is(rows.Err(), bufio.ErrTooLong) || rows.Err() == nil && rows.Text() != strings.Join(columns, ",") {
		return wrong(sitesName+", line 1", "the columns %v are wanted, not %.100q", columns, rows.Text())
	}
	known := map[string]bool{}
	for _, c := range p.Taxonomy.Categories {
		known[c.Key] = true
	}
	sets := map[string]string{}
	last, count := []byte(nil), int64(0)
	for rows.Err() == nil && rows.Scan() {
		count++
		fail := func(err error) error { return wrong(sitesName+", line "+strconv.FormatInt(count+1, 10), "%s", err) }
		row, err := fieldsOf(rows.Text(), len(columns))
		if err != nil {
			return fail(err)
		}
		goes := false
		if p.Base > 0 {
			if row[0] != "set" && row[0] != "gone" {
				return fail(fmt.Errorf("set or gone is wanted, not %q", row[0]))
			}
			goes, row = row[0] == "gone", row[1:]
		}
		site, err := readEntry(row[0])
		if err != nil {
			return fail(err)
		}
		if site.Entry != row[0] {
			return fail(fmt.Errorf("%q has to be written %q", row[0], site.Entry))
		}
		if order := bytes.Compare([]byte(site.Entry), last); order <= 0 && last != nil {
			return fail(fmt.Errorf("%q comes after %q: entries stand in the order of their bytes, each once", site.Entry, last))
		}
		last = append(last[:0], site.Entry...)
		if !goes {
			if site.Categories, err = readCategories(row[1], known, sets); err != nil {
				return fail(err)
			}
		} else if row[1] != "" {
			return fail(fmt.Errorf("what goes has no categories"))
		}
		if err := each(site); err != nil {
			return err
		}
	}
	switch err := rows.Err(); {
	case errors.Is(err, bufio.ErrTooLong):
		return wrong(sitesName+", line "+strconv.FormatInt(count+2, 10), "longer than %d bytes", maxLine)
	case err != nil:
		return damaged(err)
	case text.n != declared.Bytes || hex.EncodeToString(sum.Sum(nil)) != declared.SHA256:
		return wrong(sitesName, "not as it was signed")
	case p.Base == 0 && count != p.Sites:
		return wrong(sitesName, "it holds %d sites, and the manifest says %d", count, p.Sites)
	}
	return nil
}

// maxLine is the longest line of sites.csv, in bytes: eight times the longest entry, so that there is room for all categories.
const maxLine = 8 * pattern.MaxLength

// fieldsOf splits a line of CSV (RFC 4180) of which no field can hold a line end.
func fieldsOf(line string, want int) ([]string, error) {
	fields := strings.Split(line, ",")
	if strings.Contains(line, `"`) {
		var err error
		if fields, err = csv.NewReader(strings.NewReader(line)).Read(); err != nil {
			return nil, errors.Unwrap(err)
		}
	}
	if len(fields) != want {
		return nil, fmt.Errorf("%d fields, where %d are wanted", len(fields), want)
	}
	return fields, nil
}

// counted counts what is read.
type counted struct {
	r io.Reader
	n int64
}

func (c *counted) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.n += int64(n)
	return n, err
}

// Signer returns the public key that a pack file names as its maker's, whether or not anybody trusts it.
func Signer(name string) (string, error) {
	file, err := os.Open(name)
	if err != nil {
		return "", err
	}
	defer file.Close()
	packed, err := zstd.NewReader(file, zstd.WithDecoderMaxMemory(64<<20), zstd.WithDecoderConcurrency(1))
	if err != nil {
		return "", damaged(err)
	}
	defer packed.Close()
	p := &Reader{files: tar.NewReader(packed), packed: packed}
	text, err := p.next(manifestName, maxManifest)
	if err != nil {
		return "", err
	}
	var m manifest
	if err := json.Unmarshal(text, &m); err != nil || m.Signature == nil {
		return "", wrong(manifestName, "the pack is not signed")
	}
	return m.Signature.Key, nil
}
