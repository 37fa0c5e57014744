package cli

import (
	"bytes"
	"encoding"
	"encoding/json"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"
)

// schemas makes a JSON Schema (draft 2020-12) of each answer, from the types that are printed
// and the comments that stand beside their fields.
type schemas struct {
	t        *testing.T
	defs     map[string]any
	comments map[string]map[string]string // type with its package → field → comment
}

type object = map[string]any

func schemasOf(t *testing.T) *schemas {
	s := &schemas{t: t, defs: object{}, comments: map[string]map[string]string{}}
	for _, a := range answers {
		s.of(reflect.TypeOf(a))
	}
	return s
}

var (
	timeType = reflect.TypeFor[time.Time]()
	textType = reflect.TypeFor[encoding.TextMarshaler]()
	rawType  = reflect.TypeFor[json.RawMessage]()
)

// of is the schema of a type, a reference where it is a struct with a name.
func (s *schemas) of(t reflect.Type) object {
	switch {
	case t == timeType:
		return object{"type": "string", "format": "date-time"}
	case t == rawType:
		return object{}
	case t.Kind() != reflect.Struct && (t.Implements(textType) || reflect.PointerTo(t).Implements(textType)):
		return object{"type": "string"}
	}
	switch t.Kind() {
	case reflect.Pointer:
		return s.of(t.Elem())
	case reflect.String:
		return object{"type": "string"}
	case reflect.Bool:
		return object{"type": "boolean"}
	case reflect.Float32, reflect.Float64:
		return object{"type": "number"}
	case reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64, reflect.Uint, reflect.Uint8, reflect.Uint16, reflect.Uint32, reflect.Uint64:
		return object{"type": "integer"}
	case reflect.Slice, reflect.Array:
		return object{"type": "array", "items": s.of(t.Elem())}
	case reflect.Map:
		return object{"type": "object", "additionalProperties": s.of(t.Elem())}
	case reflect.Interface:
		return object{}
	case reflect.Struct:
		name := s.name(t)
		if _, done := s.defs[name]; !done {
			def := object{"type": "object"}
			s.defs[name] = def
			properties, required := object{}, []string{}
			s.fields(t, properties, &required)
			def["properties"], def["required"] = properties, required
		}
		return object{"$ref": "#/$defs/" + name}
	}
	s.t.Fatalf("what is a %s in JSON?", t)
	return nil
}

// name is what a type is called in the schema.
func (s *schemas) name(t reflect.Type) string {
	if t.PkgPath() == reflect.TypeFor[showOut]().PkgPath() {
		return strings.TrimSuffix(t.Name(), "Out")
	}
	return strings.ReplaceAll(strings.TrimPrefix(t.String(), "*"), ".", "-")
}

func (s *schemas) fields(t reflect.Type, properties object, required *[]string) {
	for i := range t.NumField() {
		f := t.Field(i)
		tag, options, _ := strings.Cut(f.Tag.Get("json"), ",")
		if tag == "-" || !f.IsExported() && !f.Anonymous {
			continue
		}
		if f.Anonymous && tag == "" {
			inner := f.Type
			if inner.Kind() == reflect.Pointer {
				inner = inner.Elem()
			}
			s.fields(inner, properties, required)
			continue
		}
		if tag == "" {
			s.t.Errorf("%s.%s has no name in JSON", t, f.Name)
		}
		x := s.of(f.Type)
		if about := s.comment(t, f.Name); about != "" {
			x["description"] = about
		}
		properties[tag] = x
		if !strings.Contains(options, "omitempty") && f.Type.Kind() != reflect.Pointer && !slices.Contains(*required, tag) {
			*required = append(*required, tag)
		}
	}
}

// comment is what stands beside a field in the source.
func (s *schemas) comment(t reflect.Type, field string) string {
	key := t.PkgPath() + "." + t.Name()
	if s.comments[key] == nil {
		s.read(t.PkgPath())
	}
	return s.comments[key][field]
}

func (s *schemas) read(pkg string) {
	dir := filepath.Join("../..", strings.TrimPrefix(pkg, "app.example/trammel/"))
	files, err := filepath.Glob(filepath.Join(dir, "*.go"))
	if err != nil || len(files) == 0 {
		s.t.Fatalf("the source of %s: %v", pkg, err)
	}
	for _, file := range files {
		tree, err := parser.ParseFile(token.NewFileSet(), file, nil, parser.ParseComments)
		if err != nil {
			s.t.Fatal(err)
		}
		ast.Inspect(tree, func(n ast.Node) bool {
			spec, ok := n.(*ast.TypeSpec)
			if !ok {
				return true
			}
			of := map[string]string{}
			s.comments[pkg+"."+spec.Name.Name] = of
			if st, ok := spec.Type.(*ast.StructType); ok {
				for _, f := range st.Fields.List {
					for _, name := range f.Names {
						of[name.Name] = strings.Join(strings.Fields(f.Comment.Text()), " ")
					}
				}
			}
			return true
		})
	}
}

// schemaFile is docs/reference/json.schema.json.
func schemaFile(t *testing.T) string {
	s := schemasOf(t)
	commands := object{}
	for _, a := range answers {
		commands[a.of()] = object{"$ref": "#/$defs/" + s.name(reflect.TypeOf(a))}
	}
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	e.SetIndent("", " ")
	if err := e.Encode(object{
		"$schema": "https://json-schema.org/draft/2020-12/schema", "title": "What the commands of Trammel print with --json",
		"description": "properties are the commands; $defs are what they print", "properties": commands, "$defs": s.defs,
	}); err != nil {
		t.Fatal(err)
	}
	return b.String()
}

// answersPage is docs/reference/json.md.
func answersPage(t *testing.T) string {
	s := schemasOf(t)
	var b strings.Builder
	b.WriteString("# What commands print with --json\n\nMade from the program. Every answer has a `format`; within one format fields are only ever added, so read what you know and\n" +
		"leave the rest. Fields with `?` may be missing. [json.schema.json](json.schema.json) is all of it as a JSON Schema (draft 2020-12), with what each\ncommand prints under `properties`. The examples are of the demo, with lists cut after two.\n")
	shown := map[string]bool{}
	kind := func(x object) string { return kindOf(x) }
	table := func(name string) []string {
		def := s.defs[name].(object)
		properties := def["properties"].(object)
		var more []string
		b.WriteString("\n| field | | |\n| --- | --- | --- |\n")
		for _, field := range slices.Sorted(func(yield func(string) bool) {
			for k := range properties {
				if !yield(k) {
					return
				}
			}
		}) {
			x := properties[field].(object)
			mark := "?"
			if slices.Contains(def["required"].([]string), field) {
				mark = ""
			}
			about, _ := x["description"].(string)
			fmt.Fprintf(&b, "| `%s`%s | %s | %s |\n", field, mark, kind(x), strings.ReplaceAll(about, "|", "\\|"))
			more = append(more, refs(x)...)
		}
		return more
	}
	for _, a := range answers {
		fmt.Fprintf(&b, "\n## %s\n", a.of())
		todo := table(s.name(reflect.TypeOf(a)))
		for len(todo) > 0 {
			name := todo[0]
			todo = todo[1:]
			if shown[name] {
				continue
			}
			shown[name] = true
			fmt.Fprintf(&b, "\n### %s\n", name)
			todo = append(todo, table(name)...)
		}
		if example, err := os.ReadFile("../../docs/reference/examples/" + exampleName(a.of())); err == nil {
			fmt.Fprintf(&b, "\n```json\n%s```\n", example)
		}
	}
	return b.String()
}

// exampleName is the file that has an example of a command's answer.
func exampleName(command string) string {
	first, _, _ := strings.Cut(command, ",")
	return strings.NewReplacer(" --", "-", " ", "-").Replace(strings.ToLower(first)) + ".json"
}

func kindOf(x object) string {
	if ref, ok := x["$ref"].(string); ok {
		name := strings.TrimPrefix(ref, "#/$defs/")
		return "[" + name + "](#" + strings.ToLower(name) + ")"
	}
	switch x["type"] {
	case "array":
		return "list of " + kindOf(x["items"].(object))
	case "object":
		return "object of " + kindOf(x["additionalProperties"].(object))
	case nil:
		return "anything"
	}
	if x["format"] == "date-time" {
		return "time"
	}
	return fmt.Sprint(x["type"])
}

func refs(x object) (out []string) {
	if ref, ok := x["$ref"].(string); ok {
		return []string{strings.TrimPrefix(ref, "#/$defs/")}
	}
	for _, inner := range []string{"items", "additionalProperties"} {
		if y, ok := x[inner].(object); ok {
			out = append(out, refs(y)...)
		}
	}
	return out
}

// Whatever a command prints as JSON goes through tell, and has a place in the reference.
func TestEveryAnswerIsInTheReference(t *testing.T) {
	listed := map[string]bool{}
	for _, a := range answers {
		listed[reflect.TypeOf(a).Name()] = true
		if f, ok := reflect.TypeOf(a).FieldByName("Format"); !ok || f.Tag.Get("json") != "format" {
			t.Errorf("%T has no format", a)
		}
	}
	files, _ := filepath.Glob("*.go")
	for _, file := range files {
		raw, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		text := string(raw)
		if file != "answers.go" && !strings.HasSuffix(file, "_test.go") && (strings.Contains(text, ".JSON(") || strings.Contains(text, ".JSONLine(")) {
			t.Errorf("%s prints JSON by itself; it is tell that does", file)
		}
		for line := range strings.Lines(text) {
			if name, of, ok := strings.Cut(strings.TrimPrefix(line, "func ("), ")"); ok && strings.HasPrefix(line, "func (") && strings.HasPrefix(of, " of() string") && !listed[name] {
				t.Errorf("%s is not among the answers", name)
			}
		}
	}
}

// answers are all of them, in the order of help.
var answers = []answer{
	findOut{}, knownToolsOut{}, newerOut{}, lockResult{}, approveOut{}, sourcesOut{}, showOut{}, thingsOut{}, paramsOut{}, routinesOut{},
	statusOut{}, stoppedOut{}, signalOut{}, lineOut{}, dataOut{}, statesOut{}, copiedOut{}, baysOut{}, clearOut{}, verifyOut{}, compareOut{}, recallOut{}, againstOut{},
	imageOut{}, catalogOut{}, stockOut{}, sweepOut{}, versionOut{}, installedOut{}, removeOut{}, lentOut{},
}
