package cli

import (
	"github.com/spf13/cobra"

	"widelark/core/pattern"
)

func (a *app) entryCommand() *cobra.Command {
	explain := a.reads(&cobra.Command{
		Use:   "explain ENTRY...",
		Short: "What does this entry cover? Answered without a service",
		Example: `  widelark entry explain 'heron.*' '*.heron.example' '~host ^heron[0-9]+\.'
  widelark entry explain 'https://heron.example/wards?tab=2'`,
		Args: atLeast("ENTRY"),
		RunE: func(_ *cobra.Command, args []string) error {
			type explained struct {
				Text    string   `json:"text"`
				Entries []string `json:"entries,omitempty"`
				Kind    string   `json:"kind,omitempty"`
				Covers  string   `json:"covers,omitempty"`
				Changes []string `json:"changes,omitempty"`
				Problem string   `json:"problem,omitempty"`
			}
			all := make([]explained, len(args))
			v := view{data: all, columns: []string{"Entry", "Kind", "Covers"}}
			var refused error
			for i, text := range args {
				all[i].Text = text
				mended, err := pattern.Mend(text)
				if err != nil {
					all[i].Problem, refused = err.Error(), errNo
					v.rows = append(v.rows, []string{text, "refused", err.Error()})
					continue
				}
				all[i].Changes = mended.Changes
				for _, entry := range mended.Entries {
					all[i].Entries = append(all[i].Entries, entry.String())
					all[i].Kind, all[i].Covers = string(entry.Kind()), pattern.Explain(entry)
					v.rows = append(v.rows, []string{entry.String(), all[i].Kind, all[i].Covers})
				}
			}
			if err := a.show(v); err != nil {
				return err
			}
			return refused
		},
	})
	return noun("entry", "Entries by themselves", explain)
}
