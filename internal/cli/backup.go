package cli

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"lanternfield/internal/control"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/wording"
	"lanternfield/internal/fieldfile"
)

func (a *app) backupCommand() *cobra.Command {
	out := ""
	cmd := &cobra.Command{Use: "backup [FILE] [-o OUT]", Short: "Write the field's history, keys and secrets into one sealed file, and read it again",
		Long: "It is sealed for whatever opens the keyring: the owner's key, or the passphrase. Members' own data are not in it. Whoever keeps the field goes on meanwhile.\n" +
			"lanternfield restore puts it back, on this machine or on another.",
		RunE: func(cmd *cobra.Command, args []string) error {
			folder, _, rest, err := a.folder(args)
			if err = errors.Join(err, a.noRest(rest)); err != nil {
				return err
			}
			if out == "" {
				out = control.BackupName(folder.Name(), time.Now())
			}
			done, err := folder.Backup(out)
			if err != nil {
				return err
			}
			if a.json {
				a.printJSON(done)
				return nil
			}
			fmt.Fprintf(a.out, "%s has %s of %s, %s, sealed.\n", done.File, wording.Counted(int(done.Events), "event"), folder.Name(), field.Bytes(done.Bytes))
			if done.Unread != "" {
				fmt.Fprintf(a.out, "It was not opened again to be checked: %s.\n", done.Unread)
			} else {
				fmt.Fprintln(a.out, "It was opened again, and all of it is as it should be.")
			}
			return nil
		}}
	cmd.Flags().StringVarP(&out, "output", "o", "", "the file to write; one with field and time in its name when left out")
	a.jsonFlag(cmd)
	return cmd
}

func (a *app) restoreCommand() *cobra.Command {
	from, atNodes, atHosts := "", "", ""
	acceptNew := false
	cmd := &cobra.Command{Use: "restore [BACKUP]", Short: "Put a field's history, keys and secrets back from a backup", Args: cobra.MaximumNArgs(1),
		Long: "Nothing of the field may be in the state folder. It is opened with the owner's key, or with the passphrase. What has happened since the backup is not in it:\n" +
			"agents know what they were told, and a deploy with --take-over goes on without it, by the field's name.\n\n" +
			"Agents of up to three nodes keep a sealed copy of the field's state, as it was when it had last settled: --from-nodes FIELD takes the newest of them,\n" +
			"--from-hosts FILE logs in to the hosts of a field file for them, as on another machine of the operator's; their keys are asked about first.",
		RunE: func(cmd *cobra.Command, args []string) error {
			root, err := control.Root(a.state)
			if err != nil {
				return err
			}
			said := len(args)
			for _, name := range []string{atNodes, atHosts} {
				if name != "" {
					said++
				}
			}
			if said != 1 {
				return errors.New("name either a backup, or, with --from-nodes, the field of which agents keep a copy, or, with --from-hosts, its field file")
			}
			var asked control.Folder
			if atHosts != "" {
				copied, asking, err := a.fromHosts(cmd, root, atHosts, acceptNew)
				if asking.Dir != "" {
					defer os.RemoveAll(filepath.Dir(asking.Dir))
				}
				if err != nil {
					return err
				}
				args, asked = []string{copied}, asking
			}
			if atNodes != "" {
				copied, _, err := control.CopyOf(root, atNodes)
				if err != nil {
					return err
				}
				args = []string{copied}
			}
			ask := a.hidden
			if from != "" {
				ask = func(string) (string, error) { return a.readSecret(from) }
			} else if !isTerminal(a.in) {
				ask = nil
			}
			r, err := control.Restore(root, args[0], ask)
			if err == nil && asked.Dir != "" {
				err = control.FolderOf(root, r.Field).TakeHostKeys(asked)
			}
			if err != nil {
				return err
			}
			if a.json {
				a.printJSON(r)
				return nil
			}
			fmt.Fprintf(a.out, "%s is put back in %s, as it was on %s: %s, the last of %s.\n", r.Field, r.Folder, r.Made.Local().Format(day+" 15:04"), wording.Counted(int(r.Events), "event"), r.Last.Local().Format(day+" 15:04:05"))
			switch {
			case r.Retired:
				fmt.Fprintln(a.out, "It was retired then.")
			case r.Members > 0:
				fmt.Fprintf(a.out, "It had %s on %s. `lanternfield status` asks their agents. Where they were told more since, `lanternfield deploy --take-over %s` goes on from here, and says what is lost.\n",
					wording.Counted(r.Members, "member"), wording.Counted(r.Nodes, "node"), r.Field)
			}
			return nil
		}}
	cmd.Flags().StringVar(&atNodes, "from-nodes", "", "the field of which the newest copy that its agents keep is put back")
	cmd.Flags().StringVar(&atHosts, "from-hosts", "", "the field file whose hosts are asked for the newest copy that their agents keep")
	cmd.Flags().BoolVar(&acceptNew, "accept-new", false, "with --from-hosts: believe the keys that hosts show, without asking")
	cmd.Flags().StringVar(&from, "passphrase-file", "", "the file with the passphrase; - for standard input")
	a.jsonFlag(cmd)
	return cmd
}

// fromHosts fetches the newest copy of a field's state that agents on hosts keep, into a folder of its own, in which it is noted too which host keys were accepted.
func (a *app) fromHosts(cmd *cobra.Command, root, file string, acceptNew bool) (copied string, asking control.Folder, err error) {
	f, err := fieldfile.Load(file, a.env)
	if err != nil {
		return "", asking, err
	}
	if err := os.MkdirAll(root, 0o711); err != nil {
		return "", asking, err
	}
	dir, err := os.MkdirTemp(root, ".asking-")
	if err != nil {
		return "", asking, err
	}
	asking = control.FolderOf(dir, f.Field.Name)
	if err := asking.Make(); err != nil {
		return "", asking, err
	}
	if err := a.accept(cmd, asking, f.Field, nil, acceptNew, false); err != nil && !errors.Is(err, errBadAnswer) { // some may be away
		return "", asking, err
	}
	copied, unfetched, err := asking.CopyFromHosts(cmd.Context(), f.Field)
	for _, why := range unfetched {
		fmt.Fprintln(a.err, why)
	}
	return copied, asking, err
}
