package cli

import (
	"flag"
	"time"

	"github.com/spf13/cobra"

	"lanternfield/internal/demo/crew"
	"lanternfield/internal/demo/lookout"
	"lanternfield/internal/demo/part"
	"lanternfield/internal/demo/pier"
	"lanternfield/internal/demo/relay"
	"lanternfield/internal/demo/warden"
	"lanternfield/internal/outside"
)

// playCommand runs one of the demo's own programs. Agents start them; nobody needs to by hand.
func (a *app) playCommand() *cobra.Command {
	play := &cobra.Command{Use: "play", Short: "Run one of the demo's programs (started by agents, not by hand)", Hidden: true}
	program := func(name, short string, o *part.Options) *cobra.Command {
		cmd := &cobra.Command{Use: name, Short: short, Args: cobra.NoArgs}
		flags := cmd.Flags()
		flags.StringVar(&o.Name, "name", "", "the member's name")
		flags.StringVar(&o.Listen, "listen", "", "address:port of its HTTP side")
		flags.DurationVar(&o.StartDelay, "start-delay", 0, "how long it takes to start")
		flags.StringVar(&o.Fail, "fail", "none", "a wanted failure: none, at-start, after=DURATION, never-ready, ignore-stop")
		play.AddCommand(cmd)
		return cmd
	}
	config := func(cmd *cobra.Command, o *part.Options) {
		cmd.Flags().StringVar(&o.Config, "config", "", "its config file")
	}

	var o outside.Options
	watch := &cobra.Command{Use: "outside", Short: "A watcher of something that is not ours", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return outside.Run(cmd.Context(), o) }}
	own := flag.NewFlagSet("outside", flag.ContinueOnError)
	o.Flags(own)
	watch.Flags().AddGoFlagSet(own)
	play.AddCommand(watch)

	var w warden.Options
	cmd := program("warden", "A member of the quorum store", &w.Options)
	cmd.Flags().StringVar(&w.Data, "data", "", "its folder")
	cmd.Flags().StringSliceVar(&w.Found, "found", nil, "id=address of all who found the store")
	cmd.Flags().DurationVar(&w.Election, "election", 500*time.Millisecond, "how long a leader's silence is borne")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error { return warden.Run(cmd.Context(), w) }

	var r relay.Options
	cmd = program("relay", "A broker", &r.Options)
	config(cmd, &r.Options)
	cmd.Flags().DurationVar(&r.DoneWithin, "done-within", 5*time.Second, "a job that was taken and not finished by then is handed out again")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error { return relay.Run(cmd.Context(), r) }

	var c crew.Options
	cmd = program("crew", "A worker", &c.Options)
	config(cmd, &c.Options)
	cmd.Flags().DurationVar(&c.Takes, "takes", 50*time.Millisecond, "how long a job takes")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error { return crew.Run(cmd.Context(), c) }

	var l lookout.Options
	cmd = program("lookout", "A monitor", &l.Options)
	config(cmd, &l.Options)
	cmd.Flags().DurationVar(&l.Every, "every", time.Second, "how often it looks")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error { return lookout.Run(cmd.Context(), l) }

	var p pier.Options
	cmd = program("pier", "An entry", &p.Options)
	config(cmd, &p.Options)
	cmd.Flags().StringVar(&p.Entry, "entry", "", "address:port that clients connect to")
	cmd.Flags().DurationVar(&p.Every, "every", 250*time.Millisecond, "how often those behind it are asked whether they are ready")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error { return pier.Run(cmd.Context(), p) }
	return play
}
