// Package notices gathers the licences of everything that ships: the Go modules in the
// programs and the packages in the console.
//
//	err := notices.Write(out, root)
package notices

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
)

// part is something that ships, with its licence.
type part struct{ name, version, text string }

// Write writes the notices of the project in a folder. The console's packages must be
// installed.
func Write(out io.Writer, root string) error {
	modules, err := goModules(root)
	if err != nil {
		return err
	}
	packages, err := npmPackages(root)
	if err != nil {
		return err
	}
	drawn, err := drawings(root)
	if err != nil {
		return err
	}
	var b bytes.Buffer
	b.WriteString("# Third-party notices\n\nWhat ships with Kanban beside its own code, each with its licence. This file is made by `make notices`.\n")
	for _, group := range []struct {
		title string
		parts []part
	}{{"In the programs", modules}, {"In the console", packages}, {"In drawings", drawn}} {
		fmt.Fprintf(&b, "\n## %s\n", group.title)
		// Many share a licence word for word; it stands once.
		by := map[string][]string{}
		for _, p := range group.parts {
			by[p.text] = append(by[p.text], p.name+" "+p.version)
		}
		texts := slices.SortedFunc(maps.Keys(by), func(x,
			y string,
		) int {
			return strings.Compare(by[x][0], by[y][0])
		})
		for _, text := range texts {
			fmt.Fprintf(&b, "\n### %s\n\n```text\n%s\n```\n", strings.Join(by[text], ", "), text)
		}
	}
	_, err = out.Write(b.Bytes())
	return err
}

// goModules lists the modules whose packages are compiled into the programs.
func goModules(root string) ([]part, error) {
	c := exec.Command("go", "list", "-deps", "-json=Module", "./cmd/...")
	c.Dir = root
	text, err := c.Output()
	if err != nil {
		return nil, fmt.Errorf("listing the modules: %w", err)
	}
	type module struct {
		Path, Version, Dir string
		Main               bool
		Replace            *module
	}
	all := map[string]part{}
	for d := json.NewDecoder(bytes.NewReader(text)); ; {
		var p struct{ Module *module }
		if err := d.Decode(&p); errors.Is(err, io.EOF) {
			break
		} else if err != nil {
			return nil, fmt.Errorf("listing the modules: %w", err)
		}
		m := p.Module
		if m == nil || m.Main {
			continue
		}
		if m.Replace != nil {
			m = m.Replace
		}
		if _, there := all[m.Path]; there {
			continue
		}
		licence, err := licenceIn(m.Dir)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", m.Path, err)
		}
		all[m.Path] = part{m.Path, m.Version, licence}
	}
	root, err = goRoot()
	if err != nil {
		return nil, err
	}
	own, err := licenceIn(root)
	all["Go"] = part{"The Go standard library", "", own}
	return sorted(all), err
}

func goRoot() (string, error) {
	text, err := exec.Command("go", "env", "GOROOT").Output()
	return strings.TrimSpace(string(text)), err
}

// npmPackages lists the packages that the console is built from, without those that only
// build it.
// drawings are the fonts and symbols with which badges and certificates are drawn.
func drawings(root string) (all []part, err error) {
	for _, x := range []struct{ name, version, file string }{
		{"Noto Sans and Noto Sans Arabic", "2020-12-25", "fonts/NotoSans-LICENSE.txt"},
		{"Droid Sans Fallback", "6.0.1", "fonts/DroidSansFallback-LICENSE.txt"},
		{"Phosphor Icons", "2.1.1", "symbols/LICENSE"},
	} {
		text, err := os.ReadFile(filepath.Join(root, "internal", "wire", "drawing", x.file))
		if err != nil {
			return nil, err
		}
		all = append(all, part{x.name, x.version, strings.TrimSpace(string(text))})
	}
	return all, nil
}

func npmPackages(root string) ([]part, error) {
	text, err := os.ReadFile(filepath.Join(root, "console", "package-lock.json"))
	if err != nil {
		return nil, err
	}
	var lock struct {
		Packages map[string]struct {
			Version       string
			Dev, Optional bool
			License       string
		}
	}
	if err := json.Unmarshal(text, &lock); err != nil {
		return nil, fmt.Errorf("reading the console's packages: %w", err)
	}
	all := map[string]part{}
	for path, p := range lock.Packages {
		if path == "" || p.Dev || p.Optional {
			continue
		}
		name := path[strings.LastIndex(path, "node_modules/")+len("node_modules/"):]
		licence, err := licenceIn(filepath.Join(root, "console", path))
		if errors.Is(err, errNone) && p.License != "" {
			licence, err = "Licensed under "+p.License+"; the package brings no text of its own.", nil
		}
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		all[path] = part{name, p.Version, licence}
	}
	return sorted(all), nil
}

func sorted(all map[string]part) []part {
	return slices.SortedFunc(maps.Values(all), func(a,
		b part,
	) int {
		return strings.Compare(a.name+a.version, b.name+b.version)
	})
}

var errNone = errors.New("no licence was found")

// licenceIn gives the licence, and the notice if there is one, at the root of a folder.
func licenceIn(folder string) (string, error) {
	entries, err := os.ReadDir(folder)
	if err != nil {
		return "", err
	}
	var texts []string
	for _, e := range entries {
		name := strings.ToLower(e.Name())
		if e.IsDir() || !strings.HasPrefix(name, "licen") && !strings.HasPrefix(name, "notice") &&
			!strings.HasPrefix(name, "copying") && !strings.HasPrefix(name, "unlicense") {
			continue
		}
		text, err := os.ReadFile(filepath.Join(folder, e.Name()))
		if err != nil {
			return "", err
		}
		texts = append(texts, strings.TrimSpace(strings.ReplaceAll(string(text), "\r\n", "\n")))
	}
	if len(texts) == 0 {
		return "", errNone
	}
	return strings.ReplaceAll(strings.Join(texts, "\n\n"), "```", "'''"), nil
}
