package cli

import (
	"github.com/spf13/cobra"

	"sentier/internal/policy"
)

func (a *app) settings() *cobra.Command {
	var e editing
	var body bodyFlags
	n := noun{word: "settings", typ: policy.SettingsType}
	fields := n.flags()
	cmd := &cobra.Command{
		Use: "settings", Short: "Show or change the settings of the policy", Args: cobra.NoArgs,
		Example: "  sentier settings\n  sentier settings --zone Europe/Lisbon",
		RunE: func(cmd *cobra.Command, _ []string) error {
			patch, err := body.patch(a, cmd, fields)
			if err != nil {
				return err
			}
			if len(patch) > 0 {
				return a.patchAll(cmd, e, n, []string{"settings"}, patch)
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			var settings row
			if err := c.Do(cmd.Context(), "GET", "/api/v1/settings", nil, nil, &settings); err != nil {
				return err
			}
			s := sheet{head: []string{"FIELD", "VALUE"}}
			for _, name := range sortedKeys(settings) {
				s.rows = append(s.rows, []string{name, plain(settings[name])})
			}
			return a.print(settings, s)
		},
	}
	e.flags(cmd)
	body.flags(cmd, fields)
	return cmd
}
