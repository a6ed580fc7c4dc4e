package packfile

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"

	"widelark/core/classify"
	"widelark/core/pattern"
	"widelark/sealed"
)

// Reader reads a pack. Its content and taxonomy have been checked against the signature; the sites are checked when [Reader.EachSite] has returned
// nil.
type Reader struct {
	Content
	Signer   string // the public key; see [sealed.KeyText]
	Taxonomy classify.Taxonomy

	parts *sealed.Reader
}

// Open reads a pack as far as its taxonomy. It returns an [*Error] if the file is not a pack, is damaged, or is signed by none of the trusted keys (see
// [sealed.KeyText]). The caller closes the reader.
func Open(r io.Reader, trusted []string) (_ *Reader, err error) {
	parts, err := sealed.Open(r, noun, trusted)
	if err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			parts.Close()
		}
	}()
	p := &Reader{Signer: parts.Signer, parts: parts}
	if err := p.readContent(parts.Content); err != nil {
		return nil, err
	}
	text, err := parts.Whole(taxonomyName, maxTaxonomy)
	if err != nil {
		return nil, err
	}
	p.Taxonomy, err = UnmarshalTaxonomy(text)
	return p, err
}

// Close frees the decoder's memory. It does not close the underlying reader.
func (p *Reader) Close() { p.parts.Close() }

func (p *Reader) readContent(text []byte) error {
	if err := json.Unmarshal(text, &p.Content); err != nil {
		return wrong(sealed.ManifestName, "no manifest: %s", err)
	}
	switch {
	case p.Format != Format:
		return wrong(sealed.ManifestName, "format %d; this service reads format %d", p.Format, Format)
	case !classify.ValidKey(p.Key):
		return wrong(sealed.ManifestName, "%q cannot name a pack: letters a to z, digits and single hyphens are wanted", p.Key)
	case p.Name == "" || len(p.Name) > 200:
		return wrong(sealed.ManifestName, "a name of at most 200 bytes is wanted")
	case p.Version < 1 || p.Base < 0 || p.Base >= p.Version:
		return wrong(sealed.ManifestName, "version %d on base %d makes no sense", p.Version, p.Base)
	case p.Sites < 0 || p.Files[sitesName].Bytes < 0:
		return wrong(sealed.ManifestName, "counts below nothing")
	}
	return nil
}

// EachSite checks every line of the pack and calls each with it, in order. It returns an [*Error] for an entry that is not valid, out of order or
// repeated, for a category that the taxonomy lacks, and for a file that differs from the signed one. Only when EachSite has returned nil are the sites
// known to be the maker's. It stops at the first error of each and returns it.
func (p *Reader) EachSite(each func(Site) error) error {
	text, err := p.parts.Stream(sitesName)
	if err != nil {
		return err
	}
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
		return text.Failed(err)
	}
	if err := text.End(); err != nil {
		return err
	}
	if p.Base == 0 && count != p.Sites {
		return wrong(sitesName, "it holds %d sites, and the manifest says %d", count, p.Sites)
	}
	return nil
}

// maxLine is the longest line of sites.csv, in bytes: eight times the longest entry, which leaves room for all categories.
const maxLine = 8 * pattern.MaxLength

// fieldsOf splits a line of CSV (RFC 4180). No field can hold a line end.
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

// Signer returns the public key that a pack file names as its maker's, whether or not anybody trusts it.
func Signer(name string) (string, error) {
	file, err := os.Open(name)
	if err != nil {
		return "", err
	}
	defer file.Close()
	return sealed.SignerOf(file, noun)
}
