package rehearse

import (
	"flag"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"lanternfield/internal/core/review"
	"lanternfield/internal/core/state"

	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/rollout"
)

var update = flag.Bool("update", false, "write what the scripts print into them")

// TestScripts carries out the scripts in testdata: a command, a line of dashes, what it must print.
func TestScripts(t *testing.T) {
	files, err := filepath.Glob("testdata/*.txt")
	if err != nil || len(files) == 0 {
		t.Fatalf("no scripts: %v", err)
	}
	for _, file := range files {
		t.Run(strings.TrimSuffix(filepath.Base(file), ".txt"), func(t *testing.T) {
			data, err := os.ReadFile(file)
			if err != nil {
				t.Fatal(err)
			}
			s := newScript()
			var out strings.Builder
			for _, block := range strings.Split(strings.TrimRight(string(data), "\n"), "\n\n") {
				input, want, isCommand := strings.Cut(block, "\n----")
				if !isCommand {
					out.WriteString(block + "\n\n") // a comment
					continue
				}
				var got strings.Builder
				for _, line := range strings.Split(input, "\n") {
					if !strings.HasPrefix(line, "#") {
						got.WriteString(s.do(t, line))
					}
				}
				result := strings.TrimRight(got.String(), "\n")
				if want = strings.TrimPrefix(want, "\n"); result != want && !*update {
					t.Errorf("%s: after\n%s\ngot\n%s\nwant\n%s", file, input, result, want)
				}
				out.WriteString(strings.TrimRight(input+"\n----\n"+result, "\n") + "\n\n")
			}
			if *update {
				if err := os.WriteFile(file, []byte(strings.TrimRight(out.String(), "\n")+"\n"), 0o644); err != nil {
					t.Fatal(err)
				}
			}
		})
	}
}

// script is a world with a draft that commands change.
type script struct {
	*World
	draft field.Field
	said  int          // events of the log that have been printed
	seen  *plan.Review // that was accepted

	grounds bool // the script is about them
}

var begin = time.Date(2026, 1, 1, 6, 0, 0, 0, time.UTC)

func newScript() *script {
	s := &script{World: New(begin), draft: field.Field{Name: "saltmarsh", Place: map[field.RoleName][]field.NodeName{}}}
	s.TakeOver()
	s.said = len(s.Log)
	return s
}

// draftNode is a node of the draft, to be changed; what was deployed keeps its own.
func (s *script) draftNode(name string) *field.Node {
	s.draft.Nodes = slices.Clone(s.draft.Nodes)
	return s.draft.Node(field.NodeName(name))
}

// do carries out one command and gives what it prints.
func (s *script) do(t *testing.T, line string) string {
	t.Helper()
	words := strings.Fields(line)
	if len(words) == 0 {
		return ""
	}
	args := words[1:]
	members := func() []field.MemberName {
		names, err := engine.Choose(s.State, args)
		if err != nil {
			t.Fatalf("%s: %v", line, err)
		}
		return names
	}
	answer := func(err error) string {
		if err != nil {
			return "refused: " + err.Error() + "\n"
		}
		return ""
	}
	switch words[0] {
	case "nodes":
		for _, a := range args {
			name, zone, _ := strings.Cut(a, "@")
			zone, cpu, _ := strings.Cut(zone, ":")
			cores, _ := strconv.ParseFloat(cpu, 64)
			s.draft.Nodes = append(s.draft.Nodes, field.Node{Name: field.NodeName(name), Zone: field.ZoneName(zone), Size: field.Size{CPU: cores}})
		}
	case "set": // NAME LEAST MOST ZONE,ZONE
		least, _ := strconv.Atoi(args[1])
		most, _ := strconv.Atoi(args[2])
		zones := strings.Split(args[3], ",")
		for i := range most {
			n := field.Node{Name: field.NodeName(fmt.Sprintf("%s-%d", args[0], i+1)), Zone: field.ZoneName(zones[i%len(zones)]), Set: args[0], Extra: i >= least, Size: field.Size{CPU: 2}}
			if n.Extra {
				s.draft.Extras = append(s.draft.Extras, n)
			} else {
				s.draft.Nodes = append(s.draft.Nodes, n)
			}
		}
	case "role":
		s.role(t, args)
	case "members":
		n, _ := strconv.Atoi(args[1])
		s.draft.Role(field.RoleName(args[0])).Members = n
	case "drop":
		s.draft.Roles = slices.DeleteFunc(s.draft.Roles, func(r field.Role) bool { return string(r.Name) == args[0] })
	case "pin":
		for _, n := range args[1:] {
			s.draft.Place[field.RoleName(args[0])] = append(s.draft.Place[field.RoleName(args[0])], field.NodeName(n))
		}
	case "setting":
		r := s.draft.Role(field.RoleName(args[0]))
		r.Settings = map[string]field.Text{"pace": field.Text(args[1])}
	case "deploy":
		draft := s.draft
		draft.Nodes, draft.Roles, draft.Place = slices.Clone(s.draft.Nodes), slices.Clone(s.draft.Roles), maps.Clone(s.draft.Place)
		return answer(s.Do(engine.Deploy{Draft: &draft, By: "script"}))
	case "review":
		r, err := review.Of(s.State, &s.draft)
		if err != nil {
			return answer(err)
		}
		var b strings.Builder
		for _, step := range r.Steps {
			fmt.Fprintf(&b, "%d %s: %s\n", step.Stage, step.Kind, step.Text)
		}
		return b.String()
	case "stop":
		return answer(s.Do(engine.StopMembers{Members: members()}))
	case "start":
		return answer(s.Do(engine.StartMembers{Members: members()}))
	case "late": // ROLE AFTER THEN
		after, _ := time.ParseDuration(args[1])
		s.draft.Role(field.RoleName(args[0])).Late = &field.Late{After: field.Duration(after), Then: field.Then(args[2])}
	case "look-late": // who keeps the field looks for members that are late
		return answer(s.Do(engine.LateDue{At: s.Now}))
	case "stop-here":
		return answer(s.Do(engine.StopRollout{By: "script"}))
	case "again":
		return answer(s.Do(engine.TryAgain{Members: members(), By: "script"}))
	case "restart":
		return answer(s.Do(engine.RestartMembers{Members: members()}))
	case "renew":
		return answer(s.Do(engine.RenewCertificates{Members: members(), By: "script"}))
	case "change-secret": // NAME, and given or made
		return answer(s.Do(engine.ChangeSecret{Name: args[0], Given: len(args) > 1, By: "script"}))
	case "secret-review": // NAME
		return s.secretReview(args[0])
	case "secrets": // by member, with what it runs with; and what is in force
		return s.secrets()
	case "given-secret": // NAME: the file says that it is given
		s.draft.Secrets = map[string]field.GivenSecret{args[0]: {Prompt: true}}
	case "rotate":
		return answer(s.Do(engine.MakeAuthority{By: "script"}))
	case "finish-rotating":
		return answer(s.Do(engine.WithdrawAuthority{By: "script"}))
	case "days-later": // N: who keeps the field looks for certificates that are due
		n, _ := strconv.Atoi(args[0])
		return answer(s.Do(engine.CertificatesDue{At: s.Now.Add(time.Duration(n) * 24 * time.Hour)}))
	case "tls": // ROLE on|off
		s.draft.Role(field.RoleName(args[0])).TLS = field.Switch(args[1])
	case "lease": // ROLE STORE; none without one
		s.lease(field.RoleName(args[0]), field.RoleName(strings.Join(args[1:], "")))
	case "certificates":
		var b strings.Builder
		waits := s.State.TrustPending()
		for _, m := range state.SortedMembers(s.State) {
			fmt.Fprintf(&b, "%s has number %d by authority %d", m.Name, m.Issue.Number, m.Issue.By)
			if slices.Contains(waits, m.Name) {
				b.WriteString(", and does not run with it yet")
			}
			b.WriteString("\n")
		}
		fmt.Fprintf(&b, "%d count\n", len(s.State.Authorities))
		return b.String()
	case "retire":
		return answer(s.Do(engine.Retire{By: "script"}))
	case "pause":
		return answer(s.Do(engine.PauseRollout{By: "script"}))
	case "goon":
		return answer(s.Do(engine.ResumeRollout{By: "script"}))
	case "kill":
		if !s.Kill(field.MemberName(args[0])) {
			return "nothing runs for " + args[0] + "\n"
		}
	case "refuse", "mute": // ROLE PROCEDURE TIMES
		c := s.Cluster(field.RoleName(args[0]))
		n, _ := strconv.Atoi(args[2])
		map[string]map[order.Procedure]int{"refuse": c.Refuse, "mute": c.Mute}[words[0]][order.Procedure(args[1])] = n
	case "stranger": // ROLE NAME: somebody adds a voter by hand
		s.Cluster(field.RoleName(args[0])).Voters[field.MemberName(args[1])] = true
		s.elect(s.Cluster(field.RoleName(args[0])))
	case "learner": // ROLE NAME: somebody adds one that does not vote yet by hand
		s.Cluster(field.RoleName(args[0])).Learners[field.MemberName(args[1])] = true
		s.elect(s.Cluster(field.RoleName(args[0])))
	case "takeoff": // ROLE NAME: somebody takes a voter off by hand
		delete(s.Cluster(field.RoleName(args[0])).Voters, field.MemberName(args[1]))
		s.elect(s.Cluster(field.RoleName(args[0])))
	case "unnode":
		s.draft.Nodes = slices.DeleteFunc(slices.Clone(s.draft.Nodes), func(n field.Node) bool { return string(n.Name) == args[0] })
	case "nokeep":
		s.draft.Role(field.RoleName(args[0])).Data = nil
	case "unpin":
		s.draft.Place = map[field.RoleName][]field.NodeName{}
	case "break":
		s.Broken[field.MemberName(args[0])] = true
	case "mend":
		delete(s.Broken, field.MemberName(args[0]))
	case "agent": // NODE: its agent is started again
		s.AgentAgain(field.NodeName(args[0]))
	case "given": // NODE D: how long its ground takes for it
		s.grounds = true
		delete(s.NotGiven, field.NodeName(args[0]))
		s.GivenAfter[field.NodeName(args[0])], _ = time.ParseDuration(args[1])
	case "not-given": // NODE REASON
		s.grounds = true
		s.NotGiven[field.NodeName(args[0])] = strings.Join(args[1:], " ")
	case "controller": // dies, and another takes over
		s.TakeOver()
	case "unfit": // MEMBER REASON
		s.Unfit[field.MemberName(args[0])] = strings.Join(args[1:], " ")
	case "fit":
		delete(s.Unfit, field.MemberName(args[0]))
	case "cut":
		s.Cut(field.NodeName(args[0]))
	case "heal":
		s.Heal(field.NodeName(args[0]))
	case "lead":
		term, _ := strconv.ParseUint(args[1], 10, 64)
		s.Lead(field.MemberName(args[0]), term)
	case "unlead":
		s.Claim(field.MemberName(args[0]), false, 0)
	case "unsure":
		s.Unsure(field.MemberName(args[0]), strings.Join(args[1:], " "))
	case "rank": // MEMBER N
		s.Ranks[field.MemberName(args[0])], _ = strconv.Atoi(args[1])
	case "out": // NODE REASON
		s.draftNode(args[0]).Out = field.Text(strings.Join(args[1:], " "))
	case "rezone": // NODE ZONE
		s.draftNode(args[0]).Zone = field.ZoneName(args[1])
	case "resize": // NODE CPU
		s.draftNode(args[0]).Size.CPU, _ = strconv.ParseFloat(args[1], 64)
	case "platform": // NODE PLATFORM
		s.draftNode(args[0]).Platform = args[1]
	case "where": // ROLE EXPRESSION
		s.draft.Role(field.RoleName(args[0])).Where = strings.Join(args[1:], " ")
	case "apart": // ROLE ROLE
		s.draft.Role(field.RoleName(args[0])).Apart = []field.RoleName{field.RoleName(args[1])}
	case "runs-on": // ROLE PLATFORM
		s.draft.Role(field.RoleName(args[0])).Platforms = args[1:]
	case "version": // ROLE VERSION
		s.draft.Role(field.RoleName(args[0])).Version = args[1]
	case "slow-probe": // ROLE: another ready probe
		r := s.draft.Role(field.RoleName(args[0]))
		p := *r.Program
		p.Ready = &field.Probe{Call: field.Call{Exec: []string{"true"}}}
		r.Program = &p
	case "port": // ROLE NUMBER
		r := s.draft.Role(field.RoleName(args[0]))
		p := *r.Program
		n, _ := strconv.Atoi(args[1])
		p.Ports = map[string]field.Port{"main": {Port: n}}
		r.Program = &p
	case "accept": // keeps the review that is seen now
		r, err := review.Of(s.State, &s.draft)
		s.seen = r
		return answer(err)
	case "deploy-accepted":
		draft := s.draft
		draft.Nodes, draft.Roles, draft.Place = slices.Clone(s.draft.Nodes), slices.Clone(s.draft.Roles), maps.Clone(s.draft.Place)
		return answer(s.Do(engine.Deploy{Draft: &draft, By: "script", Accepted: s.seen}))
	case "start-without": // ROLE MEMBER
		all, err := engine.Choose(s.State, args[:1])
		if err != nil {
			t.Fatal(err)
		}
		return answer(s.Do(engine.StartMembers{Members: all, Without: []field.MemberName{field.MemberName(args[1])}}))
	case "pending":
		r, err := review.Of(s.State, &s.draft)
		if err != nil {
			return answer(err)
		}
		var b strings.Builder
		for _, p := range r.Pending {
			fmt.Fprintln(&b, p)
		}
		return b.String()
	case "runs": // MEMBER: the command that its process was started with
		if m := s.State.Member(field.MemberName(args[0])); m != nil && m.Runs() != nil {
			return strings.Join(m.Runs().Command, " ") + "\n"
		}
	case "die":
		s.Dead = true
	case "takeover":
		s.TakeOver()
	case "run":
		d, err := time.ParseDuration(args[0])
		if err != nil {
			t.Fatal(err)
		}
		s.Run(d)
	case "until":
		if !s.Until(func() bool { return string(s.Snapshot().State) == args[0] && !s.State.Rollout.Active() }, time.Minute) {
			return fmt.Sprintf("still %s after a minute: %s\n", s.Snapshot().State, s.Snapshot().Verdict)
		}
	case "status":
		return s.status()
	case "journal":
		return s.journal()
	case "rollout":
		return s.rollout()
	default:
		t.Fatalf("there is no command %q", words[0])
	}
	return ""
}

// rollout tells the newest rollout or task as its events tell it, folded anew.
func (s *script) rollout() string {
	var book rollout.Book
	then := state.NewState()
	for _, e := range s.Log {
		state.Apply(then, e)
		book.Note(then, e)
	}
	if r := book.Newest(); r != nil {
		record := r.Record(then, s.Now)
		record.Expect(then)
		return record.Text()
	}
	return "none\n"
}

func (s *script) status() string {
	snap := s.Snapshot()
	var b strings.Builder
	fmt.Fprintf(&b, "%s: %s\n", snap.State, snap.Verdict)
	for _, m := range snap.Members {
		fmt.Fprintf(&b, "  %s on %s %s", m.Member, m.Node, m.Phase)
		if m.Leads {
			b.WriteString(", leads")
		}
		if m.WaitsFor != "" {
			b.WriteString(", waits for " + m.WaitsFor)
		}
		b.WriteByte('\n')
	}
	if len(s.draft.Extras) > 0 {
		b.WriteString("  nodes:")
		for _, n := range snap.Nodes {
			b.WriteString(" " + string(n.Node))
		}
		b.WriteByte('\n')
	}
	for _, task := range snap.Tasks {
		fmt.Fprintf(&b, "  a task goes on: %s\n", task.What)
	}
	for _, k := range snap.Kept {
		fmt.Fprintf(&b, "  data of %s is kept on %s\n", k.Member, k.Node)
	}
	for _, q := range snap.Questions {
		for _, a := range q.Answers {
			fmt.Fprintf(&b, "  an answer: start %s without %v: %s\n", strings.Join(q.Names(a), " "), a.Without, a.Word)
		}
	}
	return b.String()
}

func (s *script) journal() string {
	var b strings.Builder
	for _, e := range s.Log[s.said:] {
		switch e.Fact.(type) {
		case state.Heard, state.OrderTaken:
			continue
		case state.NodeAsked, state.NodeBound:
			if len(s.GivenAfter)+len(s.NotGiven) == 0 && !s.grounds {
				continue // what is not about grounds has nodes at once
			}
		}
		fmt.Fprintf(&b, "%6d ms  %s\n", e.At.Sub(begin).Milliseconds(), e.Fact.Sentence())
	}
	s.said = len(s.Log)
	return b.String()
}
