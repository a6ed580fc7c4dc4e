package report

import (
	"encoding/csv"
	"fmt"
	"io"
	"time"

	"widelark/internal/journal/segment"
	"widelark/spreadsheet"
)

// CSV writes a report as a table: a row for each value and each span of time. Cells are safe to open in a spreadsheet.
func (m *Made) CSV(w io.Writer) error {
	out := csv.NewWriter(w)
	head := []string{"section", "value", "requests", "allow", "watch", "hold", "block", "bytes"}
	if m.Compare {
		head = append(head, "requests before", "block before", "bytes before")
	}
	_ = out.Write(head) // the error comes with Flush
	row := func(section, value string, now, earlier segment.Count) {
		cells := []string{section, value, fmt.Sprint(now.All())}
		for i := range 4 {
			cells = append(cells, fmt.Sprint(now.Requests[i]))
		}
		cells = append(cells, fmt.Sprint(now.Bytes))
		if m.Compare {
			cells = append(cells, fmt.Sprint(earlier.All()), fmt.Sprint(earlier.Requests[3]), fmt.Sprint(earlier.Bytes))
		}
		_ = out.Write(spreadsheet.SafeRow(cells))
	}
	row("All requests", m.From.Format(time.RFC3339)+"/"+m.To.Format(time.RFC3339), m.Total, m.Earlier)
	for _, s := range m.Sections {
		for _, at := range s.Over {
			row(s.Title, at.At.Format(time.RFC3339), at.Now, at.Earlier)
		}
		for _, r := range s.Rows {
			row(s.Title, r.Value, r.Now, r.Earlier)
		}
	}
	out.Flush()
	return out.Error()
}
