// Pack builds the archives in which Mexalt is released.
package main

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"debug/buildinfo"
	"flag"
	"fmt"
	"io"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/CycloneDX/cyclonedx-go"

	"mexalt/internal/cli"
)

// targets are the systems and machines that programs are built for.
var targets = []struct{ system, machine string }{
	{"linux", "amd64"}, {"linux", "arm64"}, {"darwin", "amd64"}, {"darwin", "arm64"}, {"windows", "amd64"}, {"windows", "arm64"},
}

func main() {
	folder := flag.String("o", filepath.Join("dist", "out"), "the folder for the archives")
	only := flag.String("only", "", "one target alone, such as linux/arm64")
	flag.Parse()
	if err := pack(*folder, *only); err != nil {
		fmt.Fprintln(os.Stderr, "pack:", err)
		os.Exit(1)
	}
}

func pack(folder, only string) error {
	when, err := commitTime()
	if err != nil {
		return err
	}
	built, err := os.MkdirTemp("", "mexalt-pack-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(built)
	if err := os.MkdirAll(folder, 0o777); err != nil {
		return err
	}
	sums := map[string][]byte{}
	for _, t := range targets {
		if only != "" && only != t.system+"/"+t.machine {
			continue
		}
		fmt.Fprintf(os.Stderr, "building for %s/%s\n", t.system, t.machine)
		files, version, err := contents(built, t.system, t.machine, when)
		if err != nil {
			return err
		}
		name := fmt.Sprintf("mexalt-%s-%s-%s", strings.TrimPrefix(version, "v"), t.system, t.machine)
		var archive bytes.Buffer
		if t.system == "windows" {
			err = writeZip(&archive, name, files, when)
		} else {
			err = writeTar(&archive, name, files, when)
		}
		if err != nil {
			return err
		}
		sums[name+extension(t.system)] = archive.Bytes()
		sums[name+".cdx.json"] = files["mexalt.cdx.json"].data
	}
	if len(sums) == 0 {
		return fmt.Errorf("there is no target %s", only)
	}
	var list bytes.Buffer
	for _, name := range slices.Sorted(maps.Keys(sums)) {
		fmt.Fprintf(&list, "%x  %s\n", sha256.Sum256(sums[name]), name)
	}
	sums["SHA256SUMS"] = list.Bytes()
	for name, data := range sums {
		if err := os.WriteFile(filepath.Join(folder, name), data, 0o666); err != nil {
			return err
		}
	}
	fmt.Printf("%d files in %s\n", len(sums), folder)
	return nil
}

func extension(system string) string {
	if system == "windows" {
		return ".zip"
	}
	return ".tar.gz"
}

// commitTime is the time that all files get: that of SOURCE_DATE_EPOCH, else that
// of the commit.
func commitTime() (time.Time, error) {
	text := os.Getenv("SOURCE_DATE_EPOCH")
	if text == "" {
		out, err := exec.Command("git", "log", "-1", "--format=%ct").Output()
		if err != nil {
			return time.Time{}, fmt.Errorf("the commit's time is not known: %w (SOURCE_DATE_EPOCH gives another)", err)
		}
		text = strings.TrimSpace(string(out))
	}
	seconds, err := strconv.ParseInt(text, 10, 64)
	return time.Unix(seconds, 0).UTC(), err
}

// file is a file of an archive.
type file struct {
	data       []byte
	executable bool
}

// contents builds the program for a target and returns the archive's files and the
// program's version.
func contents(folder, system, machine string, when time.Time) (map[string]file, string, error) {
	name := "mexalt"
	if system == "windows" {
		name += ".exe"
	}
	program := filepath.Join(folder, system+"-"+machine, name)
	build := exec.Command("go", "build", "-buildvcs=auto", "-trimpath", "-ldflags=-s -w -buildid=", "-o", program, "./cmd/mexalt")
	build.Env = append(os.Environ(), "CGO_ENABLED=0", "GOOS="+system, "GOARCH="+machine)
	build.Stderr = os.Stderr
	if err := build.Run(); err != nil {
		return nil, "", fmt.Errorf("%s/%s: %w", system, machine, err)
	}
	data, err := os.ReadFile(program)
	if err != nil {
		return nil, "", err
	}
	info, err := buildinfo.ReadFile(program)
	if err != nil {
		return nil, "", err
	}
	if info.Main.Version == "" || info.Main.Version == "(devel)" {
		info.Main.Version = "development"
	}
	bill, err := billOf(info, when)
	if err != nil {
		return nil, "", err
	}
	files := map[string]file{name: {data, true}, "mexalt.cdx.json": {bill, false}}
	licences, err := licencesOf(info)
	if err != nil {
		return nil, "", err
	}
	for name, text := range licences {
		files["licences/"+name] = file{text, false}
	}
	for _, name := range []string{"LICENSE", "README.md"} {
		text, err := os.ReadFile(name)
		if err != nil {
			return nil, "", err
		}
		files[name] = file{text, false}
	}
	for name, text := range cli.Manual(info.Main.Version) {
		files["man/man1/"+name] = file{text, false}
	}
	for name, text := range cli.Completions() {
		files["completions/"+name] = file{text, false}
	}
	return files, info.Main.Version, nil
}

// billOf makes a bill of materials of what the build's own information tells:
// the modules that the program was linked of.
func billOf(info *buildinfo.BuildInfo, when time.Time) ([]byte, error) {
	purl := func(path, version string) string { return fmt.Sprintf("pkg:golang/%s@%s", path, version) }
	main := cyclonedx.Component{
		Type:     cyclonedx.ComponentTypeApplication,
		Name:     "mexalt",
		Version:  info.Main.Version,
		BOMRef:   purl("mexalt", info.Main.Version),
		Licenses: &cyclonedx.Licenses{{License: &cyclonedx.License{ID: "MIT"}}},
	}
	components := []cyclonedx.Component{
		{
			Type:       cyclonedx.ComponentTypeLibrary,
			Name:       "std",
			Version:    info.GoVersion,
			BOMRef:     purl("std", info.GoVersion),
			PackageURL: purl("std", info.GoVersion),
		},
	}
	refs := []string{components[0].BOMRef}
	for _, m := range info.Deps {
		if m.Replace != nil {
			m = m.Replace
		}
		one := cyclonedx.Component{
			Type:       cyclonedx.ComponentTypeLibrary,
			Name:       m.Path,
			Version:    m.Version,
			BOMRef:     purl(m.Path, m.Version),
			PackageURL: purl(m.Path, m.Version),
		}
		if m.Sum != "" {
			one.Properties = &[]cyclonedx.Property{{Name: "go:sum", Value: m.Sum}}
		}
		components, refs = append(components, one), append(refs, one.BOMRef)
	}
	bom := cyclonedx.NewBOM()
	bom.Metadata = &cyclonedx.Metadata{Timestamp: when.Format(time.RFC3339), Component: &main}
	bom.Components = &components
	bom.Dependencies = &[]cyclonedx.Dependency{{Ref: main.BOMRef, Dependencies: &refs}}
	var out bytes.Buffer
	err := cyclonedx.NewBOMEncoder(&out, cyclonedx.BOMFileFormatJSON).SetPretty(true).EncodeVersion(bom, cyclonedx.SpecVersion1_6)
	return out.Bytes(), err
}

// licencesOf returns the licences of all that a program was linked of, by the modules'
// names, and of the standard library: files that are called as licences are.
func licencesOf(info *buildinfo.BuildInfo) (map[string][]byte, error) {
	list := map[string][]byte{}
	take := func(module, folder string) error {
		entries, err := os.ReadDir(folder)
		if err != nil {
			return err
		}
		found := false
		for _, e := range entries {
			name := strings.ToUpper(e.Name())
			if !e.Type().IsRegular() ||
				!slices.ContainsFunc([]string{"LICENSE", "LICENCE", "COPYING", "NOTICE", "PATENTS"},
					func(s string) bool { return strings.HasPrefix(name, s) }) {
				continue
			}
			text, err := os.ReadFile(filepath.Join(folder, e.Name()))
			if err != nil {
				return err
			}
			list[module+"/"+e.Name()], found = text, true
		}
		if !found {
			return fmt.Errorf("%s has no licence in %s", module, folder)
		}
		return nil
	}
	root, err := exec.Command("go", "env", "GOROOT").Output()
	if err != nil {
		return nil, err
	}
	if err := take("std", strings.TrimSpace(string(root))); err != nil {
		return nil, err
	}
	for _, m := range info.Deps {
		folder, err := exec.Command("go", "list", "-m", "-f", "{{.Dir}}", m.Path).Output()
		if err != nil {
			return nil, fmt.Errorf("%s: %w", m.Path, err)
		}
		if err := take(m.Path, strings.TrimSpace(string(folder))); err != nil {
			return nil, err
		}
	}
	return list, nil
}

func (f file) mode() int64 {
	if f.executable {
		return 0o755
	}
	return 0o644
}

func writeTar(to io.Writer, top string, files map[string]file, when time.Time) error {
	zipped, err := gzip.NewWriterLevel(to, gzip.BestCompression)
	if err != nil {
		return err
	}
	w := tar.NewWriter(zipped)
	for _, name := range slices.Sorted(maps.Keys(files)) {
		f := files[name]
		h := &tar.Header{
			Typeflag: tar.TypeReg,
			Name:     top + "/" + name,
			Size:     int64(len(f.data)),
			Mode:     f.mode(),
			ModTime:  when,
			Format:   tar.FormatUSTAR,
		}
		if err := w.WriteHeader(h); err != nil {
			return err
		}
		if _, err := w.Write(f.data); err != nil {
			return err
		}
	}
	if err := w.Close(); err != nil {
		return err
	}
	return zipped.Close()
}

func writeZip(to io.Writer, top string, files map[string]file, when time.Time) error {
	w := zip.NewWriter(to)
	for _, name := range slices.Sorted(maps.Keys(files)) {
		f := files[name]
		h := &zip.FileHeader{Name: top + "/" + name, Method: zip.Deflate, Modified: when}
		h.SetMode(os.FileMode(f.mode()))
		entry, err := w.CreateHeader(h)
		if err != nil {
			return err
		}
		if _, err := entry.Write(f.data); err != nil {
			return err
		}
	}
	return w.Close()
}
