package kit

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

func write(t *testing.T, name, text string) {
	t.Helper()
	if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(name, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
}

// TestTheNearestKitOfANameIsTaken has a kit of the same name in all three places, and one in each.
func TestTheNearestKitOfANameIsTaken(t *testing.T) {
	here, config := t.TempDir(), t.TempDir()
	t.Setenv("XDG_CONFIG_HOME", config)
	own := filepath.Join(config, "lanternfield", "kits")
	file := filepath.Join(here, "quay.field.yaml")
	library := Of(file)
	if k, ok := library.Find("etcd"); !ok || k.Source != Shipped || k.Folder != "" || len(k.Hides) > 0 {
		t.Errorf("with no other there is %+v", k)
	}
	write(t, filepath.Join(own, "etcd", FileName), "kit: etcd\nabout: mine\n")
	write(t, filepath.Join(own, "bells", FileName), "kit: bells\nabout: mine\n")
	write(t, filepath.Join(own, "no-kit", "other.yaml"), "")
	if k, _ := library.Find("etcd"); k.Source != Own || k.About() != "mine" || !slices.Equal(k.Hides, []Source{Shipped}) {
		t.Errorf("with one's own there is %+v, %s", k, k.About())
	}
	write(t, filepath.Join(here, "kits", "etcd", FileName), "kit: etcd\nabout: ours\n")
	k, _ := library.Find("etcd")
	if k.Source != Beside || k.About() != "ours" || !slices.Equal(k.Hides, []Source{Own, Shipped}) {
		t.Errorf("with one beside the file there is %+v, %s", k, k.About())
	}
	names := library.Names()
	if !slices.Equal(names[:3], []string{"etcd", "bells", "galera"}) || slices.Contains(names, "no-kit") || names[len(names)-1] != "warden" { // the nearest first, the demo's last
		t.Errorf("the kits are %v", names)
	}
}

// TestAKitIsWhatIsInItsFolder reads files of a kit, and none from elsewhere.
func TestAKitIsWhatIsInItsFolder(t *testing.T) {
	below := t.TempDir()
	folder := filepath.Join(below, "bells")
	write(t, filepath.Join(folder, FileName), "kit: bells\n")
	write(t, filepath.Join(folder, "deep", "bells.conf"), "ring\n")
	write(t, filepath.Join(below, "secret"), "x\n")
	write(t, filepath.Join(folder, "large"), strings.Repeat("x", MostBytes+1))
	if err := os.Symlink("../secret", filepath.Join(folder, "link")); err != nil {
		t.Fatal(err)
	}
	k, err := In(folder)
	if err != nil {
		t.Fatal(err)
	}
	if data, err := k.File("deep/bells.conf"); err != nil || string(data) != "ring\n" {
		t.Errorf("%q, %v", data, err)
	}
	for name, want := range map[string]string{"../secret": "without going up", "link": "escapes", "deep": "is not a file", "none": "there is no file none", "large": "1024 KiB at most", "/etc/passwd": "path below its folder"} {
		if data, err := k.File(name); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %q, %v", name, data, err)
		}
	}
	for folder, want := range map[string]string{below: "has no kit.yaml", filepath.Join(below, "secret"): "is a file", filepath.Join(below, "nowhere"): "there is no folder"} {
		if _, err := In(folder); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", folder, err)
		}
	}
}
