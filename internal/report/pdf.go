package report

import (
	"bytes"
	"compress/gzip"
	_ "embed"
	"fmt"
	"io"
	"strings"
	"sync"
	"time"

	"github.com/go-pdf/fpdf"

	"widelark/internal/journal/segment"
)

// The faces of the text, under the SIL Open Font License 1.1; see fonts/LICENSE.md.
var (
	//go:embed fonts/SourceSans3-Regular.ttf.gz
	regularPacked []byte
	//go:embed fonts/SourceSans3-Semibold.ttf.gz
	semiboldPacked []byte

	regular, semibold = unpacked(&regularPacked), unpacked(&semiboldPacked)
)

// unpacked returns a function that unpacks a face when it is first asked for.
func unpacked(packed *[]byte) func() []byte {
	return sync.OnceValue(func() []byte {
		r, err := gzip.NewReader(bytes.NewReader(*packed))
		var face []byte
		if err == nil {
			face, err = io.ReadAll(r)
		}
		if err != nil {
			panic("bug: a face that was built in cannot be read: " + err.Error())
		}
		return face
	})
}

// Sizes on a page of A4, in millimetres.
const (
	margin     = 18.0
	wide       = 210 - 2*margin
	lowest     = 297 - 20.0 // where a page is full
	line       = 5.4
	chartHigh  = 48.0
	valueWide  = 74.0
	numberWide = 19.0
)

// The colours of verdicts, and of what stands around them.
var (
	ink     = [3]int{42, 41, 37}
	soft    = [3]int{95, 91, 81}
	rule    = [3]int{220, 213, 197}
	allowed = [3]int{140, 178, 152}
	watched = [3]int{40, 96, 124}
	held    = [3]int{199, 154, 23}
	blocked = [3]int{151, 57, 42}
	other   = [3]int{200, 200, 196}
)

// stacked is the verdicts in the order in which bars are drawn, by their place in counts.
var stacked = []struct {
	at     int
	colour [3]int
	name   string
}{{0, allowed, "allowed"}, {1, watched, "watched"}, {2, held, "held"}, {3, blocked, "blocked"}, {4, other, "other"}}

// page is a document that is being written.
type page struct {
	*fpdf.Fpdf
	m *Made
}

// PDF writes a report as a document of pages in A4 (ISO 32000-1). organisation is whose it is.
func (m *Made) PDF(w io.Writer, organisation string) error {
	d := page{fpdf.New("P", "mm", "A4", ""), m}
	d.AddUTF8FontFromBytes("sans", "", regular())
	d.AddUTF8FontFromBytes("sans", "B", semibold())
	d.SetMargins(margin, margin, margin)
	d.SetAutoPageBreak(false, 0)
	d.SetTitle(plain(m.Title), true)
	d.SetAuthor(plain(organisation), true)
	d.SetCreator("Wide Lark", true)
	d.SetCreationDate(m.At)
	d.SetModificationDate(m.At)
	d.SetFooterFunc(func() {
		d.SetY(297 - 13)
		d.write("", 8, soft)
		d.CellFormat(wide/2, 4, plain(organisation)+" · made "+m.At.In(m.From.Location()).Format("2 January 2006 15:04"), "", 0, "L", false, 0, "")
		d.CellFormat(wide/2, 4, fmt.Sprint("Page ", d.PageNo()), "", 0, "R", false, 0, "")
	})
	d.AddPage()
	d.write("B", 20, ink)
	d.MultiCell(wide, 9, plain(m.Title), "", "L", false)
	d.write("", 10.5, soft)
	d.MultiCell(wide, line, m.Period()+plain(d.filter()), "", "L", false)
	d.Ln(3)
	d.totals()
	for i := range m.Sections {
		s := &m.Sections[i]
		if s.Key == over {
			d.chart(s)
		} else {
			d.table(s)
		}
	}
	return d.Output(w)
}

// plain returns a text without what the faces cannot have: they know no letters beyond the basic plane, and a line break is none here.
func plain(text string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r > 0xffff:
			return '\ufffd'
		case r < ' ' && r != '\n':
			return ' '
		}
		return r
	}, text)
}

func (d page) write(style string, size float64, colour [3]int) {
	d.SetFont("sans", style, size)
	d.SetTextColor(colour[0], colour[1], colour[2])
}

func (d page) fill(colour [3]int) { d.SetFillColor(colour[0], colour[1], colour[2]) }

// room begins a new page where so much does not fit on this one.
func (d page) room(high float64) {
	if d.GetY()+high > lowest {
		d.AddPage()
	}
}

// Period says what time a report is about.
func (m *Made) Period() string {
	const layout = "Monday 2 January 2006"
	if m.From.Hour()+m.From.Minute()+m.To.Hour()+m.To.Minute() != 0 {
		return m.From.Format(layout+" 15:04") + " until " + m.To.Format(layout+" 15:04")
	}
	last := m.To.AddDate(0, 0, -1)
	if !last.After(m.From) {
		return m.From.Format(layout)
	}
	return m.From.Format(layout) + " until " + last.Format(layout)
}

func (d page) filter() string {
	said := ""
	if d.m.Query != "" {
		said = "\nOnly requests that this finds: " + d.m.Query
	}
	if d.m.Reached.After(d.m.From) {
		said += "\nCounting took too long: what was before " + d.m.Reached.In(d.m.From.Location()).Format("2 January 15:04") + " is missing."
	}
	return said
}

// Change says how a number differs from the one before; "" where there is none before.
func Change(now, before int64) string {
	switch {
	case before == 0 && now == 0:
		return ""
	case before == 0:
		return "new"
	case now == before:
		return "±0 %"
	}
	said := strings.Replace(fmt.Sprintf("%+.0f %%", 100*float64(now-before)/float64(before)), "-", "−", 1)
	if said[len(said)-3:] == "0 %" && len(strings.TrimLeft(said, "+−")) == 3 {
		return "±0 %"
	}
	return said
}

func (d page) totals() {
	now, before := d.m.Total, d.m.Earlier
	numbers := []struct {
		name        string
		now, before int64
	}{{"requests", now.All(), before.All()}}
	for _, v := range stacked[:4] {
		numbers = append(numbers, struct {
			name        string
			now, before int64
		}{v.name, now.Requests[v.at], before.Requests[v.at]})
	}
	each := wide / float64(len(numbers))
	y := d.GetY()
	for i, n := range numbers {
		x := margin + float64(i)*each
		d.SetXY(x, y)
		d.write("B", 15, ink)
		d.CellFormat(each, 7, Thousands(n.now), "", 2, "L", false, 0, "")
		d.write("", 9, soft)
		said := n.name
		if d.m.Compare {
			if change := Change(n.now, n.before); change != "" {
				said += "  " + change
			}
		}
		d.CellFormat(each, 4.5, said, "", 0, "L", false, 0, "")
	}
	d.SetXY(margin, y+15)
}

func (d page) heading(text, note string) {
	d.write("B", 12.5, ink)
	d.CellFormat(wide, 7, text, "", 1, "L", false, 0, "")
	if note != "" {
		d.write("", 9, soft)
		d.CellFormat(wide, 4.5, note, "", 1, "L", false, 0, "")
	}
	d.Ln(1)
}

// chart draws the requests over time as bars, and those of the period before as a line.
func (d page) chart(s *MadeSection) {
	d.room(chartHigh + 30)
	note := "Bars by verdict"
	if d.m.Compare {
		note += "; the line is the period before"
	}
	d.heading(s.Title, note+".")
	most := int64(1)
	for _, m := range s.Over {
		most = max(most, m.Now.All(), m.Earlier.All())
	}
	const left = 14.0
	x, y := margin+left, d.GetY()
	across := wide - left
	d.SetDrawColor(rule[0], rule[1], rule[2])
	d.SetLineWidth(0.2)
	d.write("", 7.5, soft)
	top := niceTop(most)
	for i := range 5 {
		at := y + chartHigh*float64(4-i)/4
		d.Line(x, at, x+across, at)
		d.SetXY(margin, at-2)
		d.CellFormat(left-2, 4, Thousands(top*int64(i)/4), "", 0, "R", false, 0, "")
	}
	each := across / float64(max(1, len(s.Over)))
	scale := chartHigh / float64(top)
	for i, m := range s.Over {
		at := y + chartHigh
		for _, v := range stacked {
			if high := float64(m.Now.Requests[v.at]) * scale; high > 0 {
				d.fill(v.colour)
				at -= high
				d.Rect(x+float64(i)*each+each*0.1, at, each*0.8, high, "F")
			}
		}
	}
	if d.m.Compare {
		d.SetDrawColor(soft[0], soft[1], soft[2])
		d.SetLineWidth(0.4)
		for i := 1; i < len(s.Over); i++ {
			before, now := s.Over[i-1].Earlier.All(), s.Over[i].Earlier.All()
			d.Line(x+(float64(i)-0.5)*each, y+chartHigh-float64(before)*scale, x+(float64(i)+0.5)*each, y+chartHigh-float64(now)*scale)
		}
	}
	d.write("", 7.5, soft)
	layout := "2 Jan"
	if d.m.To.Sub(d.m.From) <= 50*time.Hour {
		layout = "15:04"
	}
	for i := 0; i < len(s.Over); i += max(1, (len(s.Over)+7)/8) {
		d.SetXY(x+float64(i)*each, y+chartHigh+0.8)
		d.CellFormat(20, 4, s.Over[i].At.In(d.m.From.Location()).Format(layout), "", 0, "L", false, 0, "")
	}
	d.SetXY(x, y+chartHigh+5.5)
	for _, v := range stacked[:4] {
		d.fill(v.colour)
		d.Rect(d.GetX(), d.GetY()+1, 2.6, 2.6, "F")
		d.SetX(d.GetX() + 3.6)
		d.CellFormat(18, 4.5, v.name, "", 0, "L", false, 0, "")
	}
	d.SetXY(margin, y+chartHigh+14)
}

// niceTop returns the end of an axis for numbers up to most: four steps of whole numbers.
func niceTop(most int64) int64 {
	for unit := int64(1); ; unit *= 10 {
		for _, step := range []int64{1, 2, 5} {
			if 4*step*unit >= most {
				return 4 * step * unit
			}
		}
	}
}

// table writes the rows of a section, each with a bar.
func (d page) table(s *MadeSection) {
	d.room(24)
	note := ""
	if s.Others > 0 {
		note = fmt.Sprintf("The first %d; %s others are not shown.", len(s.Rows), Thousands(int64(s.Others)))
	}
	d.heading(s.Title, note)
	if len(s.Rows) == 0 {
		d.write("", 9.5, soft)
		d.CellFormat(wide, line, "There are none.", "", 1, "L", false, 0, "")
		d.Ln(4)
		return
	}
	most := int64(1)
	for _, r := range s.Rows {
		most = max(most, r.Now.All())
	}
	barWide := wide - valueWide - 2*numberWide
	if d.m.Compare {
		barWide -= numberWide
	}
	head := func() {
		d.write("", 8, soft)
		d.SetX(margin + valueWide + barWide)
		d.CellFormat(numberWide, 4, "requests", "", 0, "R", false, 0, "")
		d.CellFormat(numberWide, 4, "stopped", "", 0, "R", false, 0, "")
		if d.m.Compare {
			d.CellFormat(numberWide, 4, "change", "", 0, "R", false, 0, "")
		}
		d.Ln(4.5)
	}
	head()
	for _, r := range s.Rows {
		if d.GetY()+line > lowest {
			d.AddPage()
			head()
		}
		y := d.GetY()
		d.write("", 9.5, ink)
		d.CellFormat(valueWide, line, d.shortened(plain(value(r.Value)), valueWide-3), "", 0, "L", false, 0, "")
		x := margin + valueWide
		for _, v := range stacked {
			if long := float64(r.Now.Requests[v.at]) / float64(most) * (barWide - 2); long > 0 {
				d.fill(v.colour)
				d.Rect(x, y+1.2, long, line-2.4, "F")
				x += long
			}
		}
		d.SetX(margin + valueWide + barWide)
		d.CellFormat(numberWide, line, Thousands(r.Now.All()), "", 0, "R", false, 0, "")
		d.CellFormat(numberWide, line, Thousands(stopped(r.Now)), "", 0, "R", false, 0, "")
		if d.m.Compare {
			d.write("", 9.5, soft)
			d.CellFormat(numberWide, line, Change(r.Now.All(), r.Earlier.All()), "", 0, "R", false, 0, "")
		}
		d.Ln(line)
		d.SetDrawColor(rule[0], rule[1], rule[2])
		d.SetLineWidth(0.1)
		d.Line(margin, y+line, margin+wide, y+line)
	}
	d.Ln(5)
}

// stopped returns how many requests were held or blocked.
func stopped(c segment.Count) int64 { return c.Requests[2] + c.Requests[3] }

// value returns what stands for a value.
func value(of string) string {
	if of == "" {
		return "(none)"
	}
	return of
}

// shortened returns a text that fits into a width in millimetres.
func (d page) shortened(text string, into float64) string {
	if d.GetStringWidth(text) <= into {
		return text
	}
	letters := []rune(text)
	for len(letters) > 1 && d.GetStringWidth(string(letters)+"…") > into {
		letters = letters[:len(letters)-1]
	}
	return string(letters) + "…"
}

// Thousands writes a number with commas.
func Thousands(n int64) string {
	digits := fmt.Sprint(n)
	for at := len(digits) - 3; at > 0 && digits[at-1] != '-'; at -= 3 {
		digits = digits[:at] + "," + digits[at:]
	}
	return digits
}
