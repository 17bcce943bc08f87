package field

import (
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"
)

// The names of things. Each is its own type, so that a node cannot be taken for a role.
type (
	// NodeName names a machine, e.g. gull-1.
	NodeName string
	// ZoneName names a set of nodes that may fail together, e.g. north-quay.
	ZoneName string
	// RoleName names a part of the system, e.g. wardens.
	RoleName string
	// MemberName names one instance of a role, e.g. wardens-2. It is never reused for a different member.
	MemberName string
)

// NameRule says in words what NamePattern demands.
const NameRule = "a name is made of lower-case letters, digits and hyphens, starts with a letter and has at most 63 characters"

// NamePattern is what the name of a field, node, zone, role, port or setting must look like. It keeps names safe in
// paths, host names and command lines.
var NamePattern = regexp.MustCompile(`^[a-z]([a-z0-9-]{0,61}[a-z0-9])?$`)

// MostNodes is how many nodes one field may have.
const MostNodes = 10_000

// Member gives the name of the member of a role with that number; numbers start at 1.
func (r RoleName) Member(number int) MemberName {
	return MemberName(string(r) + "-" + strconv.Itoa(number))
}

// Number is the number of a member within its role; 0 where its name has none.
func (m MemberName) Number() int {
	n, _ := strconv.Atoi(string(m[strings.LastIndexByte(string(m), '-')+1:]))
	return n
}

var rangePattern = regexp.MustCompile(`^(.*)\{(-?\d+)\.\.(-?\d+)\}(.*)$`)

// ExpandRange turns gull-{1..3} into gull-1, gull-2, gull-3 and leaves a name without a range as it is. It refuses
// ranges that run backwards or hold more than MostNodes names before making any of them.
func ExpandRange(name string) ([]string, error) {
	m := rangePattern.FindStringSubmatch(name)
	if m == nil {
		return []string{name}, nil
	}
	if strings.ContainsAny(m[1]+m[4], "{}") {
		return nil, fmt.Errorf("%q has more than one range; write one range for each entry", name)
	}
	from, errFrom := strconv.ParseInt(m[2], 10, 64)
	to, errTo := strconv.ParseInt(m[3], 10, 64)
	if errFrom != nil || errTo != nil || from < 0 || to > math.MaxInt32 {
		return nil, fmt.Errorf("the range in %q is out of bounds; a field may have at most %d nodes", name, MostNodes)
	}
	if from > to {
		return nil, fmt.Errorf("the range in %q runs backwards; write the smaller number first: {%d..%d}", name, to, from)
	}
	if to-from+1 > MostNodes {
		return nil, fmt.Errorf("the range in %q makes %d nodes; a field may have at most %d", name, to-from+1, MostNodes)
	}
	names := make([]string, 0, to-from+1)
	for i := from; i <= to; i++ {
		names = append(names, m[1]+strconv.FormatInt(i, 10)+m[4])
	}
	return names, nil
}

// Nearest gives the candidate that word was most likely meant to be, or "" when none is close enough to be a slip of
// the keyboard: at most a third of the letters may differ (the distance of Damerau and Levenshtein, in which two letters
// that have changed places count once). Of equally close ones it is the one that begins with the same letter.
func Nearest(word string, candidates []string) string {
	best, bestDistance := "", 2*(len(word)/3+2)
	for _, c := range candidates {
		a, b := strings.ToLower(word), strings.ToLower(c)
		d := 2 * distance(a, b)
		if d/2 >= len(c) {
			continue
		}
		if a == "" || b == "" || a[0] != b[0] {
			d++
		}
		if d < bestDistance {
			best, bestDistance = c, d
		}
	}
	return best
}

func distance(a, b string) int {
	if len(a) > 64 || len(b) > 64 {
		return 64
	}
	before, row := make([]int, len(b)+1), make([]int, len(b)+1) // of the letters up to the one before, and the one before that
	for j := range row {
		row[j] = j
	}
	for i := 1; i <= len(a); i++ {
		next := make([]int, len(b)+1)
		next[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			next[j] = min(row[j]+1, next[j-1]+1, row[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				next[j] = min(next[j], before[j-2]+1)
			}
		}
		before, row = row, next
	}
	return row[len(b)]
}
