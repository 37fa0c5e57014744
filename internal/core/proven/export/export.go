// Package export writes a locked environment in open formats for other programs: a
// bill of materials (CycloneDX 1.6, ECMA-424) and the variables of a shell.
//
// It says what the lock says and asks nobody; the same lock gives the same bytes.
package export

import (
	"bytes"
	"encoding/hex"
	"fmt"
	"net/url"
	"slices"
	"strings"

	cdx "github.com/CycloneDX/cyclonedx-go"

	"app.example/trammel/internal/core/base/fetch"
	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/running/environ"
	"app.example/trammel/internal/core/written/lock"
)

// CycloneDX is the bill of materials of one platform: every tool, what it is made of,
// and every package of the roots, with package URLs (purl-spec) and digests.
func CycloneDX(l *lock.Lock, p platform.Platform) ([]byte, error) {
	b := cdx.NewBOM()
	b.SerialNumber = serial(string(l.EnvironmentID(p)))
	b.Metadata = &cdx.Metadata{
		Component:  &cdx.Component{BOMRef: "environment", Type: cdx.ComponentTypeApplication, Name: l.Declaration.Project, Version: strings.TrimPrefix(string(l.EnvironmentID(p)), "sha256:")[:12]},
		Properties: &[]cdx.Property{{Name: "trammel:lock", Value: string(l.ID())}, {Name: "trammel:platform", Value: p.String()}},
	}
	var all []cdx.Component
	for _, part := range lock.Distinct(l.PartsOn(p)) {
		if part.Format == lock.RootFormat {
			all = append(all, rootPackages(l, part)...)
			continue
		}
		if part.Format == lock.SetFormat {
			all = append(all, setPackages(l, part))
			continue
		}
		item := l.Items[part.Item]
		c := cdx.Component{
			BOMRef: part.Label() + "@" + part.Part.Version, Type: cdx.ComponentTypeApplication, Name: part.Label(), Version: part.Part.Version,
			PackageURL: packageURL(l.Sources[item.Source].Kind, part.Path, part.Part.Version, part.Label()), Hashes: hashes(part.Digest),
		}
		if tree := part.Tree; tree != "" {
			c.Properties = &[]cdx.Property{{Name: "trammel:tree", Value: string(tree)}}
		}
		var below []cdx.Component
		for _, line := range part.Packages { // an npm tool's tree
			if f := strings.Fields(line); len(f) == 3 {
				name, version := npmName(f[1])
				below = append(below, cdx.Component{BOMRef: part.Label() + ":" + f[0], Type: cdx.ComponentTypeLibrary, Name: name, Version: version, PackageURL: packageURL("npm", f[1], version, name), Hashes: hashes(fetch.Digest(f[2]))})
			}
		}
		for _, line := range part.Sums { // modules that went into a build
			if f := strings.Fields(line); len(f) >= 2 {
				below = append(below, cdx.Component{BOMRef: part.Label() + ":" + f[0] + "@" + f[1], Type: cdx.ComponentTypeLibrary, Name: f[0], Version: f[1], PackageURL: "pkg:golang/" + f[0] + "@" + url.PathEscape(f[1])})
			}
		}
		if len(below) > 0 {
			c.Components = &below
		}
		all = append(all, c)
	}
	slices.SortFunc(all, func(x, y cdx.Component) int { return strings.Compare(x.BOMRef, y.BOMRef) })
	b.Components = &all
	var out bytes.Buffer
	if err := cdx.NewBOMEncoder(&out, cdx.BOMFileFormatJSON).SetPretty(true).EncodeVersion(b, cdx.SpecVersion1_6); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

// serial is a UUID made of the environment id, so that the same environment has the
// same (RFC 9562, version 8).
func serial(id string) string {
	raw, err := hex.DecodeString(strings.TrimPrefix(id, "sha256:")[:32])
	if err != nil {
		return ""
	}
	raw[6], raw[8] = raw[6]&0x0f|0x80, raw[8]&0x3f|0x80
	return fmt.Sprintf("urn:uuid:%x-%x-%x-%x-%x", raw[:4], raw[4:6], raw[6:8], raw[8:10], raw[10:])
}

func rootPackages(l *lock.Lock, part lock.PartOn) []cdx.Component {
	var out []cdx.Component
	suite := ""
	if lines := l.Sources[part.Name].Suites; len(lines) > 0 {
		suite = strings.Fields(lines[0])[0]
	}
	for _, line := range part.Packages {
		p, err := lock.ParsePackage(line)
		if err != nil {
			continue // a lock that was read has none
		}
		purl := fmt.Sprintf("pkg:deb/debian/%s@%s", p.Name, url.QueryEscape(p.Version))
		if suite != "" {
			purl += "?distro=" + url.QueryEscape(suite)
		}
		out = append(out, cdx.Component{BOMRef: part.Name + ":" + p.Name, Type: cdx.ComponentTypeLibrary, Name: p.Name, Version: p.Version, PackageURL: purl, Hashes: hashes(fetch.Digest("sha256:" + p.SHA256))})
	}
	return out
}

// setPackages is a set of libraries with the packages in it.
func setPackages(l *lock.Lock, part lock.PartOn) cdx.Component {
	kind := l.Libraries[part.Item].Kind
	c := cdx.Component{BOMRef: part.Label(), Type: cdx.ComponentTypeLibrary, Name: part.Item, Version: kind}
	if part.Tree != "" {
		c.Properties = &[]cdx.Property{{Name: "trammel:tree", Value: string(part.Tree)}}
	}
	purl := map[string]string{lock.Python: "pkg:pypi/", lock.Node: "pkg:npm/", lock.R: "pkg:cran/"}[kind]
	var below []cdx.Component
	for _, x := range (lock.Set{Packages: part.Packages}).List() {
		ref := part.Item + ":" + x.Name + "@" + x.Version
		if x.Place != "" {
			ref = part.Item + ":" + x.Place
		}
		below = append(below, cdx.Component{
			BOMRef: ref, Type: cdx.ComponentTypeLibrary, Name: x.Name, Version: x.Version,
			PackageURL: purl + strings.ReplaceAll(x.Name, "@", "%40") + "@" + url.PathEscape(x.Version), Hashes: hashes(x.Digest),
		})
	}
	c.Components = &below
	return c
}

// npmName reads the path of a tarball: "@scope/name/-/name-1.2.3.tgz".
func npmName(path string) (name, version string) {
	name, file, _ := strings.Cut(path, "/-/")
	base := name[strings.LastIndexByte(name, '/')+1:]
	return name, strings.TrimSuffix(strings.TrimPrefix(file, base+"-"), ".tgz")
}

// packageURL is the name of a package across ecosystems.
func packageURL(kind, path, version, label string) string {
	switch kind {
	case "npm":
		name, v := npmName(path)
		return "pkg:npm/" + strings.ReplaceAll(name, "@", "%40") + "@" + url.PathEscape(v)
	case "gomod":
		module, file, ok := strings.Cut(path, "/@v/")
		if !ok {
			return "pkg:golang/" + path + "@" + url.PathEscape(version)
		}
		return "pkg:golang/" + module + "@" + url.PathEscape(strings.TrimSuffix(file, ".zip"))
	}
	return "pkg:generic/" + url.PathEscape(label) + "@" + url.PathEscape(version)
}

// hashes are a digest in the format's words; an h1 digest is of a module and has none.
func hashes(digest fetch.Digest) *[]cdx.Hash {
	algorithm, value := digest.Cut()
	name := map[string]cdx.HashAlgorithm{"sha256": cdx.HashAlgoSHA256, "sha512": cdx.HashAlgoSHA512, "sha1": cdx.HashAlgoSHA1}[algorithm]
	if name == "" {
		return nil
	}
	return &[]cdx.Hash{{Algorithm: name, Value: value}}
}

// Dotenv writes variables as NAME='value' lines. Secrets are left out, and named.
func Dotenv(e environ.Environment) (text []byte, secrets []string) {
	var b bytes.Buffer
	for _, v := range e.Variables {
		if environ.Marked(v.Value) {
			secrets = append(secrets, v.Name)
			continue
		}
		fmt.Fprintf(&b, "%s='%s'\n", v.Name, strings.ReplaceAll(v.Value, "'", `'\''`))
	}
	return b.Bytes(), secrets
}
