package cli

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"lanternfield/internal/control"
	"lanternfield/internal/core/rollout"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/exposition"
	"lanternfield/internal/keeper"
	"lanternfield/internal/tracing"
)

func (a *app) serveCommand() *cobra.Command {
	unit, metrics, traces := false, "", os.Getenv("OTEL_EXPORTER_OTLP_ENDPOINT")
	cmd := &cobra.Command{Use: "serve [FILE]", Short: "Keep the field in the foreground, also when all is settled",
		Long: "Keeps the field until it is interrupted: it carries on what was ordered, and writes its history. Screens and commands attach to it. A keeper\n" +
			"that a command has started is asked to hand over. Under a supervisor that starts it again, the field is kept for good.",
		RunE: func(cmd *cobra.Command, args []string) error {
			folder, _, rest, err := a.folder(args)
			if err = errors.Join(err, a.noRest(rest)); err != nil {
				return err
			}
			if unit {
				return a.printServeUnit(folder.Name())
			}
			return a.serve(cmd.Context(), cmd, folder, metrics, traces)
		}}
	cmd.Flags().BoolVar(&unit, "print-unit", false, "print a systemd unit that keeps the field, also after the machine was started again")
	cmd.Flags().StringVar(&metrics, "metrics", "", "an address and port, such as 127.0.0.1:9720, at which it tells the field's state as OpenMetrics, at /metrics")
	cmd.Flags().StringVar(&traces, "traces", traces, "an endpoint, such as http://127.0.0.1:4318, that is sent each rollout as a trace, by OTLP over HTTP; OTEL_EXPORTER_OTLP_ENDPOINT when left out")
	return cmd
}

// handOverWithin is how long a keeper may take to hand over.
const handOverWithin = 10 * time.Second

func (a *app) serve(ctx context.Context, cmd *cobra.Command, folder control.Folder, metrics, traces string) error {
	var sealed *control.SealedError
	folder, err := folder.Unsealed()
	if errors.As(err, &sealed) {
		fmt.Fprintln(a.err, sealed)
	} else if err != nil {
		return err
	}
	if metrics != "" {
		end, err := exposition.Serve(ctx, metrics, func(ctx context.Context) (*snapshot.Snapshot, error) { return control.Look(ctx, folder) })
		if err != nil {
			return err
		}
		defer end()
		fmt.Fprintf(a.out, "The state of %s is told at http://%s/metrics.\n", folder.Name(), metrics)
	}
	if traces != "" {
		end, err := tellTraces(ctx, folder, traces)
		if err != nil {
			return err
		}
		defer end()
		fmt.Fprintf(a.out, "Rollouts of %s are told to %s.\n", folder.Name(), traces)
	}
	deadline := time.Now().Add(handOverWithin)
	for {
		err := keeper.Run(ctx, folder, keeper.Options{Command: who(cmd), Stay: true, Started: func() {
			a.progressEnds()
			fmt.Fprintf(a.out, "Keeping %s. Interrupt to stop keeping it; members go on running.\n", folder.Name())
		}, HandedOver: func() {
			fmt.Fprintf(a.out, "A command of another release keeps %s from now on. `lanternfield serve` of that release keeps it for good.\n", folder.Name())
		}})
		var held *control.HeldError
		if !errors.As(err, &held) || !held.Answers || time.Now().After(deadline) {
			if ctx.Err() != nil && err == nil {
				fmt.Fprintf(a.out, "%s is not kept by this process any more; members go on running.\n", folder.Name())
			}
			return err
		}
		_, k, err := attached(ctx, folder, cmd)
		if err == nil && k.Stays {
			return fmt.Errorf("%s is kept already, by %s; end that one first", folder.Name(), k.Holder)
		}
		if err := control.HandOver(ctx, folder); err != nil && !errors.Is(err, control.ErrNobody) {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// tracesWithin is how long the last trace may take.
const tracesWithin = 5 * time.Second

// tellTraces tells each rollout that ends from now on to an endpoint; end waits until that is done.
func tellTraces(ctx context.Context, folder control.Folder, endpoint string) (end func(), err error) {
	teller, err := tracing.New(ctx, endpoint, folder.Name(), control.Release.Version)
	if err != nil {
		return nil, err
	}
	ctx, stop := context.WithCancel(ctx)
	done := make(chan struct{})
	go func() {
		defer close(done)
		watch := make(chan *snapshot.Snapshot)
		go func() {
			defer close(watch)
			for ctx.Err() == nil {
				if snap, err := control.Look(ctx, folder); err == nil {
					watch <- snap
				}
				select {
				case <-ctx.Done():
				case <-time.After(time.Second):
				}
			}
		}()
		teller.Follow(ctx, folder.Name(), watch, func(ctx context.Context, number int) (*rollout.Record, error) {
			record, _, err := control.LookAtRollout(ctx, folder, control.RolloutAsked{Number: number})
			return record, err
		})
	}()
	return func() {
		stop()
		<-done
		ctx, cancel := context.WithTimeout(context.Background(), tracesWithin)
		defer cancel()
		_ = teller.Close(ctx)
	}, nil
}

// attached finds out who keeps a field.
func attached(ctx context.Context, folder control.Folder, cmd *cobra.Command) (control.Session, control.Keeper, error) {
	s, k, err := control.Attach(ctx, folder, who(cmd))
	if err == nil {
		err = s.Close()
	}
	return nil, k, err
}

// keepCommand is what a keeper runs as when a command or a screen has started it.
func (a *app) keepCommand() *cobra.Command {
	var dir, command string
	ready := -1
	cmd := &cobra.Command{Use: "keep", Short: "Keep a field until it is settled (started by commands and screens, not by hand)", Args: cobra.NoArgs, Hidden: true,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if dir == "" || ready < 0 {
				return errors.New("a keeper needs --folder and --ready-fd; commands and screens start it by themselves. `lanternfield serve` keeps a field in the foreground")
			}
			syscall.CloseOnExec(ready)
			folder := control.Folder{Dir: dir}
			if err := folder.Make(); err == nil { // else it is said where it is looked for
				if log, err := keeper.OpenLog(folder); err == nil {
					level := slog.LevelInfo
					slog.SetDefault(slog.New(slog.NewTextHandler(log, &slog.HandlerOptions{Level: level})))
				}
			}
			return keeper.Run(cmd.Context(), folder, keeper.Options{Command: command, Ready: os.NewFile(uintptr(ready), "ready")})
		}}
	cmd.Flags().StringVar(&dir, "folder", "", "the field's state folder")
	cmd.Flags().StringVar(&command, "for", "", "what started it")
	cmd.Flags().IntVar(&ready, "ready-fd", -1, "where it says that it is ready, inherited")
	return cmd
}

func (a *app) pauseCommand() *cobra.Command {
	return a.holdCommand("pause", "Hold the rollout: nothing new is begun, what has begun goes on", "pause", "held: nothing new is begun until `lanternfield resume`")
}

func (a *app) resumeCommand() *cobra.Command {
	return a.holdCommand("resume", "Let a rollout that was paused go on", "go on", "resumed")
}

func (a *app) holdCommand(use, short, what, said string) *cobra.Command {
	cmd := &cobra.Command{Use: use + " [FILE]", Short: short,
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx := cmd.Context()
			folder, _, rest, err := a.folder(args)
			if err = errors.Join(err, a.noRest(rest)); err != nil {
				return err
			}
			session, snap, err := a.openDeployed(ctx, cmd, folder, use)
			if err != nil {
				return err
			}
			defer session.Close()
			if err := session.Do(ctx, control.Request{What: what, By: by(cmd)}); err != nil {
				return err
			}
			if a.json {
				if snap, err = session.Snapshot(ctx); err == nil {
					a.printJSON(snap)
				}
				return err
			}
			fmt.Fprintf(a.out, "%s is %s.\n", snap.Field, said)
			return nil
		}}
	a.jsonFlag(cmd)
	return cmd
}
