package joining

import (
	"bytes"
	"net/netip"
	"strings"
	"testing"

	"lanternfield/internal/identity"
)

func TestAnInvitationIsReadAsItWasWritten(t *testing.T) {
	for _, at := range []string{"10.0.0.1:7900", "[2001:db8:ffff:ffff:ffff:ffff:ffff:ffff]:65535"} {
		made, err := NewToken(bytes.Repeat([]byte{7}, identity.PrintSize), netip.MustParseAddrPort(at))
		if err != nil {
			t.Fatal(err)
		}
		text := made.String()
		read, err := ParseToken(" " + text + "\n")
		if err != nil || read.ID != made.ID || !bytes.Equal(read.Secret, made.Secret) || !bytes.Equal(read.Print, made.Print) || read.At != made.At || read.Sum() != made.Sum() {
			t.Errorf("%v, %v; want %v", read, err, made)
		}
		if strings.ContainsAny(text, " '\"$`\\!&|;<>()*?[]{}~#") {
			t.Errorf("%s cannot be typed into a shell as it is", text)
		}
		for i := len(prefix); i < len(text); i++ { // one letter is another
			other := byte('A')
			if text[i] == other {
				other = 'B'
			}
			if got, err := ParseToken(text[:i] + string(other) + text[i+1:]); err == nil && got.String() != text {
				t.Fatalf("a damaged invitation is taken: letter %d", i)
			}
			if _, err := ParseToken(text[:i]); err == nil {
				t.Fatalf("an invitation of %d letters is taken", i)
			}
		}
	}
	for text, want := range map[string]string{"": "this is no invitation", "ssh-ed25519 AAAA": "this is no invitation", "lf1.": "not whole", "lf1.???": "not whole",
		"lf1." + strings.Repeat("A", 4000): "not whole"} {
		if _, err := ParseToken(text); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%.20q: %v; want %s", text, err, want)
		}
	}
	again, err := NewToken(bytes.Repeat([]byte{7}, identity.PrintSize), netip.MustParseAddrPort("10.0.0.1:7900"))
	other, err2 := NewToken(bytes.Repeat([]byte{7}, identity.PrintSize), netip.MustParseAddrPort("10.0.0.1:7900"))
	if err != nil || err2 != nil || again.ID == other.ID || bytes.Equal(again.Secret, other.Secret) {
		t.Errorf("two invitations are alike: %v %v", again, other)
	}
}
