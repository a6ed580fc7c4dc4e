package command

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"
	"golang.org/x/term"
	"gopkg.in/yaml.v3"

	"widelark/spreadsheet"
)

// View is one answer in every format: data for json and yaml, columns and rows for tables and csv.
type View struct {
	Data    any
	Columns []string
	Rows    [][]string
	Numbers []int  // the columns, from 0, that hold numbers
	Foot    string // one line below a table
	Empty   string // printed in place of a table without rows
}

// Reads gives a command the flag -o. JSON and YAML hold the API's own fields; CSV holds the columns of the table.
func (a *App) Reads(cmd *cobra.Command) *cobra.Command {
	cmd.Flags().StringVarP(&a.Format, "output", "o", "table", "table, json, yaml or csv")
	run := cmd.RunE
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		switch a.Format {
		case "table", "json", "yaml", "csv":
			return run(cmd, args)
		}
		return Usagef("there is no output format %q; take table, json, yaml or csv", a.Format)
	}
	return cmd
}

// Show prints a view in the format of the flag -o.
func (a *App) Show(v View) error {
	switch a.Format {
	case "json":
		return writeJSON(a.Out, v.Data)
	case "yaml":
		return writeYAML(a.Out, v.Data)
	case "csv":
		w := csv.NewWriter(a.Out)
		if err := w.Write(v.Columns); err != nil {
			return err
		}
		for _, row := range v.Rows { // which may hold what a spreadsheet would run: "=heron.example" is an entry
			if err := w.Write(spreadsheet.SafeRow(slices.Clone(row))); err != nil {
				return err
			}
		}
		w.Flush()
		return w.Error()
	}
	if len(v.Rows) == 0 && v.Empty != "" {
		fmt.Fprintln(a.Out, v.Empty)
		return nil
	}
	a.Table(v)
	return nil
}

func writeJSON(w io.Writer, data any) error {
	enc := json.NewEncoder(w)
	enc.SetIndent("", "  ")
	enc.SetEscapeHTML(false)
	return enc.Encode(data)
}

// writeYAML converts the JSON form, so that both have the same names in the same order.
func writeYAML(w io.Writer, data any) error {
	asJSON, err := json.Marshal(data)
	if err != nil {
		return err
	}
	var node yaml.Node
	if err := yaml.Unmarshal(asJSON, &node); err != nil {
		return err
	}
	plainStyle(&node)
	enc := yaml.NewEncoder(w)
	enc.SetIndent(2)
	if err := enc.Encode(&node); err != nil {
		return err
	}
	return enc.Close()
}

// plainStyle drops the flow style and the quotation marks of the JSON form.
func plainStyle(n *yaml.Node) {
	n.Style = 0
	for _, child := range n.Content {
		plainStyle(child)
	}
}

// Table prints columns with a line below their heads. On a terminal, it wraps the widest columns so that the table fits.
func (a *App) Table(v View) {
	t := table.NewWriter()
	t.SetOutputMirror(a.Out)
	style := table.StyleLight
	style.Options = table.Options{SeparateHeader: true}
	style.Format.Header = text.FormatDefault
	style.Box.PaddingLeft, style.Box.PaddingRight = "", "  "
	style.Box.MiddleHorizontal = "─"
	t.SetStyle(style)
	t.SuppressTrailingSpaces()
	t.AppendHeader(row(v.Columns))
	for _, cells := range v.Rows {
		t.AppendRow(row(cells))
	}
	configs := fit(v, a.width())
	for _, c := range v.Numbers {
		configs[c].Align = text.AlignRight
		configs[c].AlignHeader = text.AlignRight
	}
	t.SetColumnConfigs(configs)
	t.Render()
	if v.Foot != "" {
		fmt.Fprintln(a.Out, v.Foot)
	}
}

func row(cells []string) table.Row {
	r := make(table.Row, len(cells))
	for i, cell := range cells {
		r[i] = cell
	}
	return r
}

// width returns the terminal's width in columns; 0 if the output is not a terminal.
func (a *App) width() int {
	file, ok := a.Out.(*os.File)
	if !ok || !term.IsTerminal(int(file.Fd())) {
		return 0
	}
	width, _, err := term.GetSize(int(file.Fd()))
	if err != nil {
		return 0
	}
	return width
}

// fit narrows the widest columns until the table is as wide as the terminal. With a width of 0 all stay as wide as
// they are.
func fit(v View, width int) []table.ColumnConfig {
	widths := make([]int, len(v.Columns))
	total := 0
	for c, name := range v.Columns {
		widths[c] = text.StringWidthWithoutEscSequences(name)
		for _, cells := range v.Rows {
			widths[c] = max(widths[c], text.StringWidthWithoutEscSequences(cells[c]))
		}
		total += widths[c] + 2
	}
	for width > 0 && total > width {
		widest := 0
		for c := range widths {
			if widths[c] > widths[widest] {
				widest = c
			}
		}
		if widths[widest] <= 12 {
			break
		}
		widths[widest]--
		total--
	}
	configs := make([]table.ColumnConfig, len(widths))
	for c := range widths {
		configs[c] = table.ColumnConfig{Number: c + 1, WidthMax: widths[c], WidthMaxEnforcer: wrapCell}
	}
	return configs
}

// Wrapped wraps text at blanks to the width of the terminal, and indents every line.
func (a *App) Wrapped(sentence string, indent int) string {
	before := strings.Repeat(" ", indent)
	if width := a.width(); width >= indent+30 {
		sentence = wrapCell(sentence, width-indent)
	}
	return before + strings.ReplaceAll(sentence, "\n", "\n"+before)
}

// Marks holds the marks of the verdicts: shapes, so that colour is never the only difference.
var Marks = map[string]string{"allow": "○", "watch": "◐", "hold": "◇", "block": "■"}

// Verdict returns a verdict with its mark, in colour on a terminal unless NO_COLOR is set.
func (a *App) Verdict(v string) string {
	shown := Marks[v] + " " + v
	if a.width() == 0 || os.Getenv("NO_COLOR") != "" {
		return shown
	}
	switch v {
	case "block":
		return text.Colors{text.Bold, text.FgRed}.Sprint(shown)
	case "hold":
		return text.Colors{text.Bold, text.FgMagenta}.Sprint(shown)
	case "watch":
		return text.Colors{text.Bold, text.FgBlue}.Sprint(shown)
	default:
		return text.Colors{text.Bold, text.FgGreen}.Sprint(shown)
	}
}

// Plural returns a number with the noun in the singular or plural.
func Plural(n int64, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return Grouped(n) + " " + many
}

// Grouped returns a number with commas between thousands.
func Grouped(n int64) string {
	digits := fmt.Sprint(n)
	var b strings.Builder
	for i, d := range digits {
		if i > 0 && (len(digits)-i)%3 == 0 && digits[i-1] != '-' {
			b.WriteByte(',')
		}
		b.WriteRune(d)
	}
	return b.String()
}

// wrapCell wraps a text that is wider than its column: between words, or else after a sign at which URLs, dates and times divide, or else anywhere.
func wrapCell(cell string, width int) string {
	if strings.Contains(cell, "\x1b") { // colours: only short cells have them
		return text.WrapHard(cell, width)
	}
	var lines []string
	for _, line := range strings.Split(cell, "\n") {
		for rest := []rune(line); text.StringWidth(line) > width && len(rest) > 1; line = string(rest) {
			cut := cutAt(rest, width)
			lines = append(lines, strings.TrimRight(string(rest[:cut]), " "))
			rest = []rune(strings.TrimLeft(string(rest[cut:]), " "))
		}
		lines = append(lines, line)
	}
	return strings.Join(lines, "\n")
}

// cutAt returns the byte offset at which to break a line that is too wide: after the last blank that fits, or else after the last dividing sign.
func cutAt(line []rune, width int) int {
	fits := 0
	for taken := 0; fits < len(line); fits++ {
		if taken += text.RuneWidth(line[fits]); taken > width {
			break
		}
	}
	for _, signs := range []string{" ", "/.,;:-@&?="} {
		for at := min(fits, len(line)-1); at > width/3; at-- {
			if signs == " " && line[at] == ' ' || signs != " " && strings.ContainsRune(signs, line[at-1]) {
				return at
			}
		}
	}
	return max(fits, 1)
}

// VerdictCell returns a verdict for a cell: with its mark in a table, and as the word in any other format.
func (a *App) VerdictCell(v string) string {
	if a.Format == "table" {
		return a.Verdict(v)
	}
	return v
}
