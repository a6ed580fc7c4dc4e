package packfile

import (
	"bufio"
	"crypto/ed25519"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"widelark/core/classify"
	"widelark/sealed"
	"widelark/spreadsheet"
)

// ReadSites reads a CSV file with the columns entry and categories, whose lines may be in any order. An entry that occurs several times gets the
// categories of all its lines. Errors are [*Error] and name the line of the file.
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

// Write writes a whole pack with the given sites (entry to [classify.SetID]), signed with key. It fills in the files, the format and the number of
// sites of content.
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

// WriteDelta writes a pack that holds only the differences between the sites and those of the version content.Base.
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

func write(w io.Writer, content Content, t classify.Taxonomy, key ed25519.PrivateKey, lines func(*csv.Writer) error) error {
	if err := t.Check(); err != nil {
		return wrong(taxonomyName, "%s", err)
	}
	about, err := MarshalTaxonomy(t)
	if err != nil {
		return err
	}
	content.Format, content.Date = Format, content.Date.UTC()
	signed := func(files map[string]sealed.File) ([]byte, error) {
		content.Files = files
		return json.Marshal(content)
	}
	return sealed.Write(w, content.Date, key, signed,
		sealed.Part{Name: taxonomyName, Write: func(w io.Writer) error {
			_, err := w.Write(about)
			return err
		}},
		sealed.Part{Name: sitesName, Write: func(w io.Writer) error { return writeLines(w, lines) }})
}

func writeLines(w io.Writer, lines func(*csv.Writer) error) error {
	out := bufio.NewWriterSize(w, 1<<16)
	rows := csv.NewWriter(out)
	if err := lines(rows); err != nil {
		return err
	}
	rows.Flush()
	return errors.Join(rows.Error(), out.Flush())
}
