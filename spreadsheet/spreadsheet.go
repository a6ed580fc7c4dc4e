// Package spreadsheet keeps cells of CSV files from being run as formulas by the programs that open them.
//
// From: the text of a cell.
// To: a cell that every program reads as text, and back.
package spreadsheet

import (
	"regexp"
	"strings"
)

// number matches cells that programs read as numbers, not as formulas.
var number = regexp.MustCompile(`^[+-]?[0-9]+([.,][0-9]+)?%?$`)

// Safe returns a cell with an apostrophe before it if a spreadsheet would run it: if it begins with "=", "+", "-", "@", a tab or a carriage return
// and is not a number. A cell that begins with apostrophes and then one of these gets one apostrophe more, so that [Plain] is exact.
func Safe(cell string) string {
	if runs(strings.TrimLeft(cell, "'")) {
		return "'" + cell
	}
	return cell
}

// Plain undoes [Safe]. A cell that Safe cannot have returned stays as it is.
func Plain(cell string) string {
	if rest, quoted := strings.CutPrefix(cell, "'"); quoted && runs(strings.TrimLeft(rest, "'")) {
		return rest
	}
	return cell
}

// SafeRow makes all cells of a row safe, in place, and returns it.
func SafeRow(row []string) []string {
	for i := range row {
		row[i] = Safe(row[i])
	}
	return row
}

// PlainRow undoes [SafeRow], in place, and returns the row.
func PlainRow(row []string) []string {
	for i := range row {
		row[i] = Plain(row[i])
	}
	return row
}

func runs(cell string) bool {
	return cell != "" && strings.ContainsRune("=+-@\t\r＝＋－＠", []rune(cell)[0]) && !number.MatchString(cell)
}
