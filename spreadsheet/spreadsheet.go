// Package spreadsheet keeps cells of CSV files from being run as formulas by the programs that open them.
//
// From: a cell as it is meant.
// To: a cell that reads as text everywhere, and back.
package spreadsheet

import (
	"regexp"
	"strings"
)

// number is what a program reads as a number and not as a formula.
var number = regexp.MustCompile(`^[+-]?[0-9]+([.,][0-9]+)?%?$`)

// Safe returns a cell with an apostrophe before it where a spreadsheet would run it: where it begins with "=", "+", "-", "@", a tab or
// a carriage return, and is no number. What begins with apostrophes and then one of those gets one more, so that [Plain] is exact.
func Safe(cell string) string {
	if runs(strings.TrimLeft(cell, "'")) {
		return "'" + cell
	}
	return cell
}

// Plain returns the cell that [Safe] was given. A cell that Safe would not have made stays as it is.
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
