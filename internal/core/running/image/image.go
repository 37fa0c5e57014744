// Package image writes an environment as an OCI image (Image Format Specification 1.1): a layout
// folder, an archive of one, or a registry.
//
// Promise: the same lock, the same commit and the same program give the same image digest on
// every machine, whoever makes it and when. Names stand in the order of their bytes, every
// file belongs to root and is of 1 January 1970, and no compressor is asked that could do its
// work otherwise on another machine.
package image

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/empty"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/google/go-containerregistry/pkg/v1/types"
	kgzip "github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"golang.org/x/sync/errgroup"

	"app.example/trammel/internal/core/base/canon"
	"app.example/trammel/internal/core/base/disk"
	"app.example/trammel/internal/core/base/event"
	"app.example/trammel/internal/core/base/fault"
	"app.example/trammel/internal/core/base/platform"
	"app.example/trammel/internal/core/running/inside"
	"app.example/trammel/internal/core/stored/store"
	"app.example/trammel/internal/core/stored/tree"
	"app.example/trammel/internal/core/written/lock"
)

// recipe changes with each change of how layers are made.
const recipe = "layer 1"

// Compressions of layers.
var Compressions = []string{"gzip", "zstd", "none"}

// Contents is what one image holds.
type Contents struct {
	Platform platform.Platform
	Store    *store.Store
	Root     *lock.PartOn  // the system that shows; nil where the image has none
	Parts    []lock.PartOn // toolchains and library sets
	Plan     inside.Plan
	Links    map[string]string // of the frame
	Program  string            // this program's file, for the platform
	Files    []File            // of the project, in any order
	Labels   map[string]string
	Created  time.Time // zero: 1 January 1970
	Command  []string  // what the launcher starts where nobody says

	Compression string // one of Compressions
	Cache       string // folder in which layers are kept that were made before
}

// File is one of the project's.
type File struct {
	Path       string // below the project's folder
	Executable bool
	Link       string // target, of a symbolic link
	Content    func() (io.ReadCloser, int64, error)
}

// most is how many layers there may be: engines take 127, and leave room for somebody's own.
const most = 100

// Make makes the image of one platform. Its layers lie in files of the cache until they are read.
func Make(ctx context.Context, c Contents) (v1.Image, error) {
	var jobs []job
	if c.Root != nil {
		jobs = append(jobs, job{"the root " + c.Root.Name, c.key("root", string(c.Root.Tree)), c.system})
	}
	for _, group := range grouped(c.Parts) {
		var names []string
		for _, p := range group {
			names = append(names, store.Name(p)+" "+string(p.Tree))
		}
		label := group[0].Label() + " " + group[0].Part.Version
		if len(group) > 1 {
			label = fmt.Sprintf("%s and %d more", label, len(group)-1)
		}
		jobs = append(jobs, job{label, c.key("parts", names...), func(w *writer) error {
			for _, p := range group {
				if err := c.part(w, p); err != nil {
					return err
				}
			}
			return nil
		}})
	}
	jobs = append(jobs, job{"the frame", "", c.frame})
	if len(c.Files) > 0 {
		jobs = append(jobs, job{"the project's files", "", c.project})
	}
	layers := make([]v1.Layer, len(jobs))
	making, ctx := errgroup.WithContext(ctx)
	making.SetLimit(runtime.GOMAXPROCS(0))
	for i, j := range jobs {
		making.Go(func() error {
			done := event.Task(ctx, "layer of "+j.what)
			layer, err := c.layer(ctx, j)
			done("", err)
			layers[i] = layer
			return err
		})
	}
	if err := making.Wait(); err != nil {
		return nil, err
	}
	return c.assemble(jobs, layers)
}

func (c Contents) assemble(jobs []job, layers []v1.Layer) (v1.Image, error) {
	created := v1.Time{Time: c.Created.UTC()}
	if c.Created.IsZero() {
		created.Time = time.Unix(0, 0).UTC()
	}
	img := mutate.ConfigMediaType(mutate.MediaType(empty.Image, types.OCIManifestSchema1), types.OCIConfigJSON)
	var more []mutate.Addendum
	for i, layer := range layers {
		more = append(more, mutate.Addendum{Layer: layer, History: v1.History{Created: created, CreatedBy: "trammel export oci: " + jobs[i].what}})
	}
	img, err := mutate.Append(img, more...)
	if err != nil {
		return nil, err
	}
	config, err := img.ConfigFile()
	if err != nil {
		return nil, err
	}
	config = config.DeepCopy()
	config.Created, config.OS, config.Architecture = created, c.Platform.OS, c.Platform.Arch
	config.Author = ""
	config.Config = v1.Config{
		Entrypoint: []string{inside.Program, "inside"}, Cmd: c.Command, WorkingDir: c.Plan.Dir, User: fmt.Sprintf("%d:%d", inside.User, inside.User),
		Env: []string{"PATH=" + strings.Join(c.Plan.Path, ":"), "HOME=" + inside.Home}, Labels: c.Labels,
	}
	var ports []int
	for _, s := range c.Plan.Services {
		for _, n := range s.Ports {
			ports = append(ports, n)
		}
	}
	if len(ports) > 0 {
		config.Config.ExposedPorts = map[string]struct{}{}
		for _, n := range ports {
			config.Config.ExposedPorts[fmt.Sprintf("%d/tcp", n)] = struct{}{}
		}
	}
	if img, err = mutate.ConfigFile(img, config); err != nil {
		return nil, err
	}
	return mutate.Annotations(img, c.Labels).(v1.Image), nil
}

// Index is one for several platforms, in the order that they are given in.
func Index(images []v1.Image, on []platform.Platform, labels map[string]string) (v1.ImageIndex, error) {
	index := mutate.IndexMediaType(empty.Index, types.OCIImageIndex)
	for i, img := range images {
		index = mutate.AppendManifests(index, mutate.IndexAddendum{Add: img, Descriptor: v1.Descriptor{Platform: &v1.Platform{OS: on[i].OS, Architecture: on[i].Arch}}})
	}
	return mutate.Annotations(index, labels).(v1.ImageIndex), nil
}

// grouped are the parts of one layer each, several in one where they are very many.
func grouped(parts []lock.PartOn) [][]lock.PartOn {
	slices.SortFunc(parts, func(a, b lock.PartOn) int { return strings.Compare(a.Name+store.Name(a), b.Name+store.Name(b)) })
	each := (len(parts) + most - 1) / most
	var out [][]lock.PartOn
	for group := range slices.Chunk(parts, max(each, 1)) {
		out = append(out, group)
	}
	return out
}

// job is one layer to make. A key names what is in it; "" is for one that is made each time.
type job struct {
	what string
	key  string
	fill func(*writer) error
}

func (c Contents) key(kind string, names ...string) string {
	return strings.TrimPrefix(canon.Digest(canon.List{recipe, kind, c.Compression, strings.Join(names, "\n")}), "sha256:")
}

// layer is a layer whose compressed bytes are in a file.
type layer struct {
	file        string
	Known       record
	compression string
}

// record is what is known of a layer's file.
type record struct {
	Digest string `json:"digest"` // of the file
	DiffID string `json:"diff_id"`
	Size   int64  `json:"size"`
	Sum    string `json:"sum"` // of the three
}

func (r record) sum() string {
	return canon.Digest(canon.List{r.Digest, r.DiffID, fmt.Sprint(r.Size)})
}

// whole reads a layer of the cache and tells whether it is what its record says.
func (l *layer) whole() bool {
	if l.Known.Sum != l.Known.sum() {
		return false
	}
	f, err := os.Open(l.file)
	if err != nil {
		return false
	}
	defer f.Close()
	read := &counted{to: io.Discard, sum: sha256.New()}
	_, err = io.Copy(read, io.LimitReader(f, l.Known.Size+1))
	return err == nil && read.size == l.Known.Size && read.digest() == l.Known.Digest
}

func (l *layer) Digest() (v1.Hash, error)             { return v1.NewHash(l.Known.Digest) }
func (l *layer) DiffID() (v1.Hash, error)             { return v1.NewHash(l.Known.DiffID) }
func (l *layer) Compressed() (io.ReadCloser, error)   { return os.Open(l.file) }
func (l *layer) Size() (int64, error)                 { return l.Known.Size, nil }
func (l *layer) Uncompressed() (io.ReadCloser, error) { return open(l.file, l.compression) }

// MediaType is that of the compression (image-spec, "Image Layer Filesystem Changeset").
func (l *layer) MediaType() (types.MediaType, error) {
	switch l.compression {
	case "none":
		return types.OCIUncompressedLayer, nil
	case "zstd":
		return types.OCILayerZStd, nil
	}
	return types.OCILayer, nil
}

func open(file, compression string) (io.ReadCloser, error) {
	f, err := os.Open(file)
	if err != nil || compression == "none" {
		return f, err
	}
	if compression == "zstd" {
		z, err := zstd.NewReader(f)
		if err != nil {
			return nil, err
		}
		return struct {
			io.Reader
			io.Closer
		}{z, f}, nil
	}
	z, err := gzip.NewReader(f)
	return struct {
		io.Reader
		io.Closer
	}{z, f}, err
}

func (c Contents) layer(ctx context.Context, j job) (v1.Layer, error) {
	if err := os.MkdirAll(c.Cache, 0o700); err != nil {
		return nil, err
	}
	if j.key != "" {
		l := &layer{file: filepath.Join(c.Cache, j.key), compression: c.Compression}
		if raw, err := disk.Read(l.file+".json", 4096); err == nil && json.Unmarshal(raw, &l.Known) == nil && l.whole() {
			return l, nil
		}
	}
	fresh, err := os.CreateTemp(c.Cache, ".new-")
	if err != nil {
		return nil, err
	}
	defer os.Remove(fresh.Name())
	defer fresh.Close()
	l := &layer{compression: c.Compression}
	if l.Known, err = fill(ctx, fresh, c.Compression, j.fill); err != nil {
		return nil, err
	}
	if err := fresh.Close(); err != nil {
		return nil, err
	}
	name := j.key
	if name == "" {
		name = "once-" + strings.TrimPrefix(l.Known.Digest, "sha256:")
	}
	l.file = filepath.Join(c.Cache, name)
	if err := os.Rename(fresh.Name(), l.file); err != nil {
		return nil, err
	}
	l.Known.Sum = l.Known.sum()
	raw, err := json.Marshal(l.Known)
	if err == nil {
		err = disk.WriteCache(l.file+".json", raw)
	}
	return l, err
}

// counted counts and digests what is written through it.
type counted struct {
	to   io.Writer
	sum  hash.Hash
	size int64
}

func (c *counted) Write(p []byte) (int, error) {
	n, err := c.to.Write(p)
	_, _ = c.sum.Write(p[:n])
	c.size += int64(n)
	return n, err
}

func (c *counted) digest() string { return "sha256:" + hex.EncodeToString(c.sum.Sum(nil)) }

// ahead is a writer whose caller goes on reading while what it wrote is digested, packed and
// written by another goroutine.
type ahead struct {
	full chan []byte
	free chan []byte
	now  []byte
	done chan error
}

const aheadChunk = 256 << 10

func newAhead(to io.Writer) *ahead {
	a := &ahead{full: make(chan []byte, 4), free: make(chan []byte, 6), done: make(chan error, 1)}
	for range cap(a.free) {
		a.free <- make([]byte, 0, aheadChunk)
	}
	go func() {
		var err error
		for chunk := range a.full {
			if err == nil {
				_, err = to.Write(chunk)
			}
			a.free <- chunk[:0]
		}
		a.done <- err
	}()
	return a
}

// Write never fails: what went wrong is said by Close.
func (a *ahead) Write(p []byte) (int, error) {
	for left := p; len(left) > 0; {
		if a.now == nil {
			a.now = <-a.free
		}
		n := copy(a.now[len(a.now):cap(a.now)], left)
		a.now, left = a.now[:len(a.now)+n], left[n:]
		if len(a.now) == cap(a.now) {
			a.full <- a.now
			a.now = nil
		}
	}
	return len(p), nil
}

// Close waits until all is written.
func (a *ahead) Close() error {
	if a.now != nil {
		a.full <- a.now
		a.now = nil
	}
	close(a.full)
	return <-a.done
}

func fill(ctx context.Context, to io.Writer, compression string, body func(*writer) error) (record, error) {
	outer := &counted{to: to, sum: sha256.New()}
	plain := outer // not compressed, the layer is its own content
	var packed io.WriteCloser
	switch compression {
	case "none":
	case "zstd":
		z, err := zstd.NewWriter(outer, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1))
		if err != nil {
			return record{}, err
		}
		packed = z
	default:
		z, err := kgzip.NewWriterLevel(outer, kgzip.BestSpeed)
		if err != nil {
			return record{}, err
		}
		packed = z
	}
	if packed != nil {
		plain = &counted{to: packed, sum: sha256.New()}
	}
	behind := newAhead(plain)
	w := &writer{ctx: ctx, tar: tar.NewWriter(behind), folders: map[string]bool{}}
	err := body(w)
	err = errors.Join(err, w.tar.Close(), behind.Close())
	if packed != nil {
		err = errors.Join(err, packed.Close())
	}
	return record{Digest: outer.digest(), DiffID: plain.digest(), Size: outer.size}, err
}

// writer writes the entries of a layer (POSIX.1-2017, pax). Names have no leading slash.
type writer struct {
	ctx     context.Context
	tar     *tar.Writer
	folders map[string]bool
	buffer  []byte
	hash    *tree.Hasher
}

func (w *writer) header(name string, mode int64, owner int) *tar.Header {
	return &tar.Header{Name: strings.TrimPrefix(name, "/"), Mode: mode, Uid: owner, Gid: owner, ModTime: time.Unix(0, 0), Format: tar.FormatPAX}
}

// above writes the folders that a name is in.
func (w *writer) above(name string, owner int) error {
	parent := path.Dir(strings.TrimPrefix(name, "/"))
	if parent == "." || w.folders[parent] {
		return nil
	}
	if err := w.above(parent, owner); err != nil {
		return err
	}
	return w.folder(parent, 0o755, owner)
}

func (w *writer) folder(name string, mode int64, owner int) error {
	name = strings.Trim(name, "/")
	if w.folders[name] {
		return nil
	}
	if err := w.above(name, 0); err != nil {
		return err
	}
	w.folders[name] = true
	h := w.header(name+"/", mode, owner)
	h.Typeflag = tar.TypeDir
	return w.tar.WriteHeader(h)
}

func (w *writer) link(name, target string, owner int) error {
	if err := w.above(name, 0); err != nil {
		return err
	}
	h := w.header(name, 0o777, owner)
	h.Typeflag, h.Linkname = tar.TypeSymlink, target
	return w.tar.WriteHeader(h)
}

func (w *writer) file(name string, executable bool, owner int, size int64, content io.Reader) error {
	if err := w.ctx.Err(); err != nil {
		return err
	}
	if err := w.above(name, 0); err != nil {
		return err
	}
	mode := int64(0o644)
	if executable {
		mode = 0o755
	}
	h := w.header(name, mode, owner)
	h.Typeflag, h.Size = tar.TypeReg, size
	if err := w.tar.WriteHeader(h); err != nil {
		return err
	}
	if w.buffer == nil {
		w.buffer = make([]byte, 256<<10)
	}
	n, err := io.CopyBuffer(struct{ io.Writer }{w.tar}, io.LimitReader(content, size), w.buffer)
	if err == nil && n != size {
		err = fmt.Errorf("%s became shorter while it was read", name)
	}
	return err
}

func (w *writer) text(name string, executable bool, text string) error {
	return w.file(name, executable, 0, int64(len(text)), strings.NewReader(text))
}

// tree writes a tree of the store at a place.
func (w *writer) tree(dir, at string, m tree.Manifest) error {
	for _, e := range m {
		name := path.Join(at, e.Path)
		var err error
		switch e.Type {
		case tree.EmptyDir:
			err = w.folder(name, 0o755, 0)
		case tree.Link:
			err = w.link(name, e.Target, 0)
		default:
			err = w.locked(filepath.Join(dir, filepath.FromSlash(e.Path)), name, e)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// locked writes a file of the store, and holds it to what is locked.
func (w *writer) locked(file, name string, e tree.Entry) error {
	f, err := os.Open(file)
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	if w.hash == nil {
		w.hash = tree.NewHasher()
	}
	w.hash.Reset()
	if err := w.file(name, e.Type == tree.Executable, 0, info.Size(), io.TeeReader(f, w.hash)); err != nil {
		return err
	}
	if w.hash.Sum() != e.Sum {
		return fault.New(fault.ErrDrift, "%s is not what is locked", file).Advise("Mend it: trammel verify --deep, then trammel fit")
	}
	return nil
}

func (w *writer) from(file, name string, executable bool, owner int) error {
	f, err := os.Open(file)
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	return w.file(name, executable, owner, info.Size(), f)
}

// part writes a toolchain's part or a set.
func (c Contents) part(w *writer, p lock.PartOn) error {
	m, err := c.Store.Manifest(p)
	if err != nil {
		return fmt.Errorf("the list of files of %s: %w", p.Label(), err)
	}
	return w.tree(c.Store.Path(p), inside.Store+"/"+store.Name(p), m)
}

// top are the folders of a system besides what a root has, and what its merged /usr links.
var top = []string{"bin", "lib", "lib32", "lib64", "libx32", "sbin"}

// system writes the root.
func (c Contents) system(w *writer) error {
	m, err := c.Store.Manifest(*c.Root)
	if err != nil {
		return fmt.Errorf("the list of files of the root %s: %w", c.Root.Name, err)
	}
	has := map[string]bool{}
	for _, e := range m {
		first, rest, _ := strings.Cut(e.Path, "/")
		has[first] = true
		if first == "usr" {
			second, _, _ := strings.Cut(rest, "/")
			has["usr/"+second] = true
		}
	}
	for _, name := range top {
		if has["usr/"+name] && !has[name] {
			if err := w.link(name, "usr/"+name, 0); err != nil {
				return err
			}
		}
	}
	return w.tree(c.Store.Path(*c.Root), "", m)
}

// frame writes what is the image's own: the frame's links, this program, what it goes by, who
// the user is, and the folders that change.
func (c Contents) frame(w *writer) error {
	for _, name := range []string{"dev", "proc", "sys", "run", "var/cache", "var/lib", "var/log", "etc"} {
		if err := w.folder(name, 0o755, 0); err != nil {
			return err
		}
	}
	for _, name := range []string{"tmp", "var/tmp"} {
		if err := w.folder(name, 0o1777, 0); err != nil {
			return err
		}
	}
	for _, name := range []string{inside.Bay, inside.DataFolder, inside.Home, inside.Cache, inside.Ready, c.Plan.Dir} {
		if err := w.folder(name, 0o775, inside.User); err != nil {
			return err
		}
	}
	user := fmt.Sprintf("%d:%d", inside.User, inside.User)
	for _, x := range [][2]string{
		{"etc/group", fmt.Sprintf("root:x:0:\nuser:x:%d:\nnogroup:x:65534:\n", inside.User)},
		{"etc/passwd", "root:x:0:0:root:/root:/bin/sh\nuser:x:" + user + "::" + inside.Home + ":/bin/sh\nnobody:x:65534:65534:nobody:/:/bin/sh\n"},
	} {
		if err := w.text(x[0], false, x[1]); err != nil {
			return err
		}
	}
	for _, name := range lock.Sorted(c.Links) {
		if err := w.link(inside.Frame+"/"+name, c.Links[name], 0); err != nil {
			return err
		}
	}
	plan, err := json.MarshalIndent(c.Plan, "", " ")
	if err != nil {
		return err
	}
	if err := w.file(inside.File, false, 0, int64(len(plan)), bytes.NewReader(plan)); err != nil {
		return err
	}
	return w.from(c.Program, inside.Program, true, 0)
}

// project writes the project's files, which programs in the container may change.
func (c Contents) project(w *writer) error {
	files := slices.Clone(c.Files)
	slices.SortFunc(files, func(a, b File) int { return strings.Compare(a.Path, b.Path) })
	own := func(name string) error { // folders are the user's
		var parents []string
		for dir := path.Dir(name); dir != c.Plan.Dir && len(dir) > len(c.Plan.Dir); dir = path.Dir(dir) {
			parents = append(parents, dir)
		}
		for _, dir := range slices.Backward(parents) {
			if err := w.folder(dir, 0o755, inside.User); err != nil {
				return err
			}
		}
		return nil
	}
	if err := w.folder(c.Plan.Dir, 0o775, inside.User); err != nil {
		return err
	}
	for _, f := range files {
		name := path.Join(c.Plan.Dir, f.Path)
		if err := own(name); err != nil {
			return err
		}
		if f.Link != "" {
			if err := w.link(name, f.Link, inside.User); err != nil {
				return err
			}
			continue
		}
		content, size, err := f.Content()
		if err != nil {
			return err
		}
		err = w.file(name, f.Executable, inside.User, size, content)
		content.Close()
		if err != nil {
			return err
		}
	}
	return nil
}
