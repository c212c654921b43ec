package estate

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestWards: which folders patterns find, and what their wards are called.
func TestWards(t *testing.T) {
	dir := t.TempDir()
	for _, file := range []string{"shore/a.star", "lights/a/x.star", "lights/b/x.star", "lights/b/deep/x.star",
		"lights/empty/notes.md",
		"lights/old/x.star", "kits/beam/kit.toml", "kits/beam/kit.star", "rules/house.star", ".hidden/x.star", "lights/a/.git/x.star"} {
		path := filepath.Join(dir, filepath.FromSlash(file))
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, nil, 0o644))
	}
	require.NoError(t, os.Symlink(filepath.Join(dir, "shore"), filepath.Join(dir, "lights", "linked")))
	for list, want := range map[string]string{
		`"shore"`:                    "shore=shore",
		`"lights/a"`:                 "lights-a=lights/a",
		`"shore", "lights/*"`:        "shore=shore lights-a=lights/a lights-b=lights/b lights-old=lights/old",
		`"lights/**"`:                "lights-a=lights/a lights-b=lights/b lights-b-deep=lights/b/deep lights-old=lights/old",
		`"lights/**", "!lights/old"`: "lights-a=lights/a lights-b=lights/b lights-b-deep=lights/b/deep",
		`"**", "!lights"`:            "shore=shore",
		`"lights/b", "lights/*"`:     "lights-b=lights/b lights-a=lights/a lights-old=lights/old",
		`"lights/*/deep"`:            "lights-b-deep=lights/b/deep",
		`"**/deep"`:                  "lights-b-deep=lights/b/deep",
		`"l*/[ab]"`:                  "lights-a=lights/a lights-b=lights/b",
		`"sho*", "!shore"`:           `! "sho*" matches no folder with *.star files`,
		`"shore", "shore"`:           `! ward "shore" is listed twice`,
		`"../shore"`:                 `! the folder "../shore" makes the name`,
		`"lights/../shore"`:          `! the folder "lights/../shore" makes the name`,
		`"../*"`:                     `! "../*" is not a valid pattern of folders`,
		`"lights/[a"`:                `! the folder "lights/[a" makes the name`,
		`"lights/[*"`:                `! "lights/[*" is not a valid pattern of folders`,
		`"lights/a", "!lights/a"`:    "lights-a=lights/a",
		`"/shore"`:                   `! the folder "/shore" makes the name`,
		`"nowhere/*"`:                `! "nowhere/*" matches no folder`,
		`3`:                          "! 3 is not a valid name",
	} {
		e, err := Parse(dir, []byte("estate = \"coast\"\nwards = ["+list+"]\n[env.trial]\n"))
		if says, wrong := strings.CutPrefix(want, "! "); wrong {
			require.ErrorContains(t, err, says, list)
			continue
		}
		require.NoError(t, err, list)
		var got []string
		for _, w := range e.Wards {
			got = append(got, w+"="+e.Folder(w))
			require.Equal(t, w, e.WardOf(e.Folder(w)))
		}
		require.Equal(t, want, strings.Join(got, " "), list)
	}
	e, err := Parse(dir, []byte("estate = \"coast\"\nwards = [\"shore\", \"lights/**\"]\n[env.trial]\n"))
	require.NoError(t, err)
	for names, want := range map[string]string{"lights-*": "lights-a lights-b lights-b-deep lights-old",
		"lights/b/deep": "lights-b-deep", "shore/": "shore", "*": "shore lights-a lights-b lights-b-deep lights-old", "lights-b shore": "shore lights-b", "x": "! x", "lights-a x*": "! x*"} {
		wards, none := e.ChosenWards(strings.Fields(names))
		if want[0] == '!' {
			require.Equal(t, want[2:], none)
			continue
		}
		require.Empty(t, none)
		require.Equal(t, want, strings.Join(wards, " "), names)
	}
}
