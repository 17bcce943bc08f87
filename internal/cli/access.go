package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/kballard/go-shellquote"
	"github.com/spf13/cobra"

	"lanternfield/internal/control"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/render"
	"lanternfield/internal/core/snapshot"
)

func (a *app) accessCommand() *cobra.Command {
	var show, shell bool
	write, takeBack, handOver := "", "", ""
	cmd := &cobra.Command{Use: "access [FILE] [ROLE]", Short: "How a client gets in: addresses, user, secret, certificates, and forms that are ready to be used",
		Long: "Clients are shown the way that survives the loss of a member: an entry where there is one, else the list of all members. Forms name the files that a client\n" +
			"needs; --write puts them into a folder, for its owner only, and leaves what is there already. --shell opens a shell in which the client's own tools find\n" +
			"their way by themselves; its files are gone when it ends.\n\n" +
			"Other fields that call a role (external: {field, role}) are handed all of that by name. --take-back takes it back from one of them; --hand-over lets it have it again.",
		RunE: func(cmd *cobra.Command, args []string) error {
			folder, _, rest, err := a.folder(args)
			if err != nil {
				return err
			}
			if len(rest) > 1 {
				return fmt.Errorf("one role at a time; %s were named", strings.Join(rest, ", "))
			}
			if (shell || write != "") && len(rest) == 0 {
				return errors.New("say for the clients of which role, as in: lanternfield access berths --write berths-access")
			}
			session, snap, err := a.openDeployed(cmd.Context(), cmd, folder, "get into")
			if err != nil {
				return err
			}
			defer session.Close()
			if takeBack+handOver != "" {
				return a.handOver(cmd, session, rest, takeBack, handOver)
			}
			ask := control.AccessAsked{Folder: write, Secrets: show || write != "" || shell, Files: write != "" || shell, By: by(cmd)}
			if len(rest) == 1 {
				ask.Role = field.RoleName(rest[0])
				if err := knownRole(snap, rest[0]); err != nil {
					return err
				}
			}
			linked := snap.Role(ask.Role)
			switch {
			case linked != nil && linked.Link != nil && (shell || write != ""):
				return fmt.Errorf("%s is %s of another field, %s, which says how its clients get in: `lanternfield access --field %s %s`", ask.Role, linked.Link.Role, linked.Link.Field, linked.Link.Field, linked.Link.Role)
			case shell:
				return a.accessShell(cmd.Context(), session, ask)
			case write != "":
				return a.writeAccess(cmd.Context(), session, ask)
			}
			ask.Folder = "DIR"
			ways, err := session.Access(cmd.Context(), ask)
			if err != nil {
				return err
			}
			return a.printAccess(cmd.Context(), session, snap, ask, ways)
		}}
	cmd.Flags().BoolVar(&show, "show-secrets", false, "show secrets instead of hiding them")
	cmd.Flags().StringVar(&write, "write", "", "write what a client needs into this folder")
	cmd.Flags().BoolVar(&shell, "shell", false, "open a shell with all of it set")
	cmd.Flags().StringVar(&takeBack, "take-back", "", "take the role back from another field that it is handed over to")
	cmd.Flags().StringVar(&handOver, "hand-over", "", "hand over again to another field what was taken back from it")
	cmd.Flags().BoolVarP(&a.yes, "yes", "y", false, "do not ask before something is taken back")
	cmd.MarkFlagsMutuallyExclusive("take-back", "hand-over", "write", "shell")
	a.jsonFlag(cmd)
	return cmd
}

// knownRole refuses a word that names no role.
func knownRole(snap *snapshot.Snapshot, name string) error {
	var names []string
	for _, r := range snap.Roles {
		if string(r.Role) == name {
			return nil
		}
		names = append(names, string(r.Role))
	}
	if near := field.Nearest(name, names); near != "" {
		return fmt.Errorf("there is no role %q; did you mean %q?", name, near)
	}
	return fmt.Errorf("there is no role %q; there is %s", name, strings.Join(names, ", "))
}

// noAccess says that nothing is known of how clients get at a role.
func noAccess(role field.RoleName) error {
	return fmt.Errorf("the program of %s says nothing of how clients get at it (access:); `lanternfield status` has its addresses", role)
}

func (a *app) printAccess(ctx context.Context, session control.Session, snap *snapshot.Snapshot, ask control.AccessAsked, ways []control.Access) error {
	if role := snap.Role(ask.Role); role != nil && role.Link != nil {
		if a.json {
			a.printJSON(role.Link)
			return nil
		}
		a.printLink(*role)
		return nil
	}
	if len(ways) == 0 && ask.Role != "" {
		return a.noWay(ctx, session, ask)
	}
	if a.json {
		a.printJSON(ways)
		return nil
	}
	if len(ways) == 0 {
		fmt.Fprintf(a.out, "No program of %s says how clients get at it (access:); `lanternfield status` has addresses.\n", snap.Field)
	}
	for i, w := range ways {
		if i > 0 {
			fmt.Fprintln(a.out)
		}
		a.printWay(w, snap.Role(w.Role))
	}
	for _, r := range snap.Roles {
		if r.Link != nil && ask.Role == "" {
			fmt.Fprintln(a.out)
			a.printLink(r)
		}
	}
	return nil
}

// noWay says of a role without access whether it is the entry of another, which is what clients of it want.
func (a *app) noWay(ctx context.Context, session control.Session, ask control.AccessAsked) error {
	role := ask.Role
	ask.Role = ""
	ways, err := session.Access(ctx, ask)
	if err != nil {
		return err
	}
	for _, w := range ways {
		if w.Through == role {
			return fmt.Errorf("%s is the entry of %s; clients want `lanternfield access %s`", role, w.Role, w.Role)
		}
	}
	return noAccess(role)
}

func (a *app) printWay(w control.Access, role *snapshot.RoleView) {
	fmt.Fprintf(a.out, "%s: %s\n", w.Role, cmp.Or(w.Purpose, "its clients connect here"))
	row := func(head, text string) {
		if text != "" {
			fmt.Fprintf(a.out, "  %-12s %s\n", head, text)
		}
	}
	at, read := hostList(w.Write), hostList(w.Read)
	switch {
	case w.Through != "":
		row("through", fmt.Sprintf("%s, an entry: %s", w.Through, at))
		row("to read", read)
	case len(w.Write) == 1:
		row("at", at+", the only member: whoever uses that address is cut off when it is lost")
	default:
		row("at", at+", all of its members: give clients the whole list")
	}
	row("names", strings.Join(w.Names, ", "))
	switch {
	case w.TLS && w.Client:
		row("TLS", fmt.Sprintf("yes: the authority is in %s, and a certificate to show in %s", control.AuthorityFile, control.ClientFile))
	case w.TLS:
		row("TLS", "yes: the authority is in "+control.AuthorityFile)
	default:
		row("TLS", "no: everything is sent in the clear")
	}
	row("user", w.User)
	if w.Secret != "" {
		row("secret", fmt.Sprintf("%s (its name is %s)", w.Value, w.Secret))
	}
	for _, f := range w.Forms {
		row(f.Name, f.Text)
	}
	for i, name := range slices.Sorted(maps.Keys(w.Env)) {
		row([]string{"environment", ""}[min(i, 1)], name+"="+shellquote.Join(w.Env[name]))
	}
	if len(w.Command) > 0 {
		row("command", shellquote.Join(w.Command...))
	}
	if w.Tool != nil {
		row("tool", toolHere(w.Tool))
	}
	if role != nil {
		for i, h := range role.HandedTo {
			row([]string{"handed to", ""}[min(i, 1)], h.String())
		}
	}
	fmt.Fprintf(a.out, "  `lanternfield access %s --write DIR` writes what a client needs; --shell opens a shell with all of it set.\n", w.Role)
}

func hostList(hosts []render.Host) string {
	words := make([]string, len(hosts))
	for i, h := range hosts {
		words[i] = h.At()
	}
	return strings.Join(words, ", ")
}

// toolWithin is how long the client's own tool may take to tell its version.
const toolWithin = 5 * time.Second

// toolHere says whether the client's own tool is here, and in which version.
func toolHere(t *field.Tool) string {
	from := ""
	if t.Package != "" {
		from = fmt.Sprintf(" (Debian's package %s has it)", t.Package)
	}
	path, err := exec.LookPath(t.Exec[0])
	if err != nil {
		return t.Exec[0] + " is not on the PATH here" + from
	}
	ctx, cancel := context.WithTimeout(context.Background(), toolWithin)
	defer cancel()
	cmd := exec.CommandContext(ctx, path, t.Exec[1:]...)
	cmd.Env = append(os.Environ(), "ETCDCTL_API=3")
	out, err := cmd.CombinedOutput()
	if err != nil {
		return fmt.Sprintf("%s is here, and does not tell its version: %v", path, err)
	}
	version, err := t.Read(string(out))
	if err != nil {
		return fmt.Sprintf("%s is here; its version cannot be read", path)
	}
	if t.Least != "" && field.Older(version, string(t.Least)) {
		return fmt.Sprintf("%s is version %s here, and %s is the oldest that works%s", t.Exec[0], version, t.Least, from)
	}
	return fmt.Sprintf("%s %s is here", t.Exec[0], version)
}

// oneWay asks for the way to one role, with all that its client needs in that folder.
func oneWay(ctx context.Context, session control.Session, ask control.AccessAsked) (control.Access, error) {
	ways, err := session.Access(ctx, ask)
	if err != nil {
		return control.Access{}, err
	}
	if len(ways) == 0 {
		return control.Access{}, noAccess(ask.Role)
	}
	return ways[0], nil
}

// writeAccess writes what a client needs into a folder. Nothing that is there is touched.
func (a *app) writeAccess(ctx context.Context, session control.Session, ask control.AccessAsked) error {
	var err error
	if ask.Folder, err = filepath.Abs(ask.Folder); err != nil {
		return err
	}
	w, err := oneWay(ctx, session, ask)
	if err != nil {
		return err
	}
	names, err := w.WriteTo(ask.Folder)
	if err != nil {
		return err
	}
	for _, name := range names {
		fmt.Fprintf(a.out, "wrote %s%s\n", filepath.Join(ask.Folder, name), map[string]string{control.AuthorityFile: ", whom a client believes", control.ClientFile: untilWord(w),
			control.EnvFile: ", for `.` in a shell", control.URLFile: secretWord(w)}[name])
	}
	if len(w.Command) > 0 {
		fmt.Fprintf(a.out, "In a shell: %s%s\n", sourced(names, ask.Folder), shellquote.Join(w.Command...))
	}
	return nil
}

func secretWord(w control.Access) string {
	if w.Secret == "" {
		return ""
	}
	return ", with the secret in it"
}

func untilWord(w control.Access) string {
	if w.Until.IsZero() {
		return ""
	}
	return ", the client's certificate and key, until " + w.Until.Local().Format(day)
}

// sourced is what comes before a command in a shell, so that it finds its way.
func sourced(names []string, folder string) string {
	if !slices.Contains(names, control.EnvFile) {
		return ""
	}
	return ". " + shellquote.Join(filepath.Join(folder, control.EnvFile)) + " && "
}

// accessShell opens a shell in which a client's tools find their way. Its files are gone when it ends.
func (a *app) accessShell(ctx context.Context, session control.Session, ask control.AccessAsked) error {
	dir, err := os.MkdirTemp("", "lanternfield-access-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	ask.Folder = dir
	w, err := oneWay(ctx, session, ask)
	if err != nil {
		return err
	}
	if _, err := w.WriteTo(dir); err != nil && len(w.Written()) > 0 {
		return err
	}
	cmd := exec.CommandContext(ctx, cmp.Or(os.Getenv("SHELL"), "/bin/sh"))
	cmd.Env = append(os.Environ(), "LANTERNFIELD_ACCESS="+string(w.Role))
	for name, value := range w.Env {
		cmd.Env = append(cmd.Env, name+"="+value)
	}
	cmd.Stdin, cmd.Stdout, cmd.Stderr = a.in, a.out, a.err
	if a.screen != nil {
		cmd.Stdout = a.screen
	}
	if a.errScreen != nil {
		cmd.Stderr = a.errScreen
	}
	if isTerminal(a.in) {
		fmt.Fprintf(a.err, "A shell for clients of %s; `exit` ends it, and takes its files away.\n", w.Role)
		if len(w.Command) > 0 {
			fmt.Fprintf(a.err, "Try: %s\n", shellquote.Join(w.Command...))
		}
	}
	err = cmd.Run()
	var ended *exec.ExitError
	if errors.As(err, &ended) {
		return nil // what its last command came to is the business of who typed it
	}
	return err
}
