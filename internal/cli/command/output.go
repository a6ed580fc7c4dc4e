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
	Empty   string // what to say where a table would have no rows
}

// Reads gives a command the flag -o. JSON and YAML hold the API's own fields; CSV what the table shows.
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

// Show prints a view in the format that was asked for.
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

// writeYAML goes by JSON, so that both have the same names in the same order.
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

// plainStyle drops the flow style and the quotes that the text had as JSON.
func plainStyle(n *yaml.Node) {
	n.Style = 0
	for _, child := range n.Content {
		plainStyle(child)
	}
}

// Table prints columns under a rule. On a terminal, the widest columns are broken so that it fits.
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

// width returns the terminal's width in columns, 0 where the output is no terminal.
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

// fit takes from the widest column until the table is as wide as the terminal. With a width of 0 all stay as wide as
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

// Wrapped breaks text at blanks so that it fits the terminal, with every line indented.
func (a *App) Wrapped(sentence string, indent int) string {
	before := strings.Repeat(" ", indent)
	if width := a.width(); width >= indent+30 {
		sentence = wrapCell(sentence, width-indent)
	}
	return before + strings.ReplaceAll(sentence, "\n", "\n"+before)
}

// Marks are those of the verdicts: told by shape and word, before colour.
var Marks = map[string]string{"allow": "○", "watch": "◐", "hold": "◇", "block": "■"}

// Verdict shows a verdict with its mark, in colour on a terminal (unless NO_COLOR asks for none).
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

// Plural writes a number with the word for one or for many.
func Plural(n int64, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return Grouped(n) + " " + many
}

// Grouped writes a number with commas between thousands.
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

// wrapCell breaks what is wider than a column: between words, else after what parts of URLs, dates and times end with, else anywhere.
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

// cutAt returns where to break a line that is too wide: after the last blank that fits, else after the last sign that a part ends with.
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

// VerdictCell shows a verdict in a table with its mark, elsewhere as the word.
func (a *App) VerdictCell(v string) string {
	if a.Format == "table" {
		return a.Verdict(v)
	}
	return v
}
