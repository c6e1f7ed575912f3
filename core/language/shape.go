package language

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"imbrel.example/imbrel/core/policy"
)

// A shape describes what may be written at a place of the file: it reads it, and it
// says its JSON Schema.
type shape[V any] struct {
	say    string // what may be written here, to go after "expected"
	read   func(r *reader, n Value) (V, bool)
	schema func(d definitions) schema
}

// A schema is a JSON Schema, or a part of one.
type schema = map[string]any

// definitions are the parts of a schema that have a name.
type definitions map[string]schema

// define returns a reference to the definition of a name, made on first use, so
// that a part may contain itself.
func (d definitions) define(name string, make func() schema) schema {
	if _, known := d[name]; !known {
		d[name] = nil
		d[name] = make()
	}
	return schema{"$ref": "#/$defs/" + name}
}

// A key describes one key of an object: its name, what it means, what may
// be written there, and where the value goes.
type key[T any] struct {
	name   string
	doc    string
	need   bool
	read   func(r *reader, n Value, into *T)
	schema func(d definitions) schema
}

// on describes an optional key.
func on[T, V any](name, doc string, s shape[V], set func(*T, V)) key[T] {
	return key[T]{name: name, doc: doc, schema: s.schema, read: func(r *reader, n Value, into *T) {
		if v, ok := s.read(r, n); ok {
			set(into, v)
		}
	}}
}

// withReader describes an optional key whose value may have problems of its own.
func withReader[T, V any](name, doc string, s shape[V], set func(*reader, *T, V)) key[T] {
	return key[T]{name: name, doc: doc, schema: s.schema, read: func(r *reader, n Value, into *T) {
		if v, ok := s.read(r, n); ok {
			set(r, into, v)
		}
	}}
}

// must describes a key that cannot be left out.
func must[T, V any](name, doc string, s shape[V], set func(*T, V)) key[T] {
	k := on(name, doc, s, set)
	k.need = true
	return k
}

// sourced is a part of the model, which knows where it was written.
type sourced interface {
	Begins(policy.Place)
	Written(key string, at policy.Place)
}

// A reader walks a document along a description and collects what is wrong.
type reader struct {
	problems policy.Problems
	depth    int             // of the object that is read
	section  string          // the top key that is read or resolved
	broken   map[string]bool // the sections that have a problem
}

// maxText bounds a single value.
const maxText = 1000

// maxProblems is the most problems that are reported for one file.
const maxProblems = 50

func (r *reader) problem(at policy.Place, width int, help, format string, args ...any) {
	r.broken[r.section] = true
	if len(r.problems) <= maxProblems {
		r.problems = append(r.problems, policy.Problem{Place: at, Width: width, Text: fmt.Sprintf(format, args...), Help: help})
	}
}

func (r *reader) expected(n Value, say string) {
	if n.Kind == Null {
		r.problem(n.At, 0, "expected "+say, "nothing is written here")
		return
	}
	found := n.Kind.String()
	if n.Kind == Scalar {
		found = fmt.Sprintf("%.40q", n.Text)
	}
	r.problem(n.At, len(n.Text), "expected "+say, "%s is not allowed here", found)
}

// object describes a set of keys that becomes a T. Every T embeds a Source,
// which is filled in.
func object[T any](what string, keys ...key[T]) shape[T] {
	names := make([]string, 0, len(keys))
	for _, k := range keys {
		names = append(names, k.name)
	}
	describe := func(d definitions) schema {
		return d.define(strings.ReplaceAll(what, " ", "-"), func() schema {
			properties, required := schema{}, []string{}
			for _, k := range keys {
				p := schema{"description": k.doc}
				for name, v := range k.schema(d) {
					p[name] = v
				}
				properties[k.name] = p
				if k.need {
					required = append(required, k.name)
				}
			}
			return schema{"type": "object", "properties": properties, "required": required, "additionalProperties": false}
		})
	}
	return shape[T]{schema: describe, say: an(what) + " with keys such as " + strings.Join(firstFew(names, 4), ", "), read: func(r *reader, n Value) (T, bool) {
		var v T
		src, _ := any(&v).(sourced)
		if src != nil {
			src.Begins(n.At)
		}
		if n.Kind != Keyed {
			r.expected(n, an(what)+" with keys: "+strings.Join(names, ", "))
			return v, false
		}
		r.depth++
		defer func() { r.depth-- }()
		seen := make(map[string]policy.Place, len(n.Keys))
		for i, kn := range n.Keys {
			if kn.Kind != Scalar {
				r.expected(kn, "the name of a key")
				continue
			}
			if first, twice := seen[kn.Text]; twice {
				r.problem(kn.At, len(kn.Text), fmt.Sprintf("it is first given in line %d; keep one", first.Line), "key `%s` is given twice", kn.Text)
				continue
			}
			seen[kn.Text] = kn.At
			k := slices.IndexFunc(keys, func(k key[T]) bool { return k.name == kn.Text })
			if r.depth == 1 {
				r.section = kn.Text
			}
			switch {
			case k < 0:
				r.problem(kn.At, len(kn.Text), policy.DidYouMean(kn.Text, names)+an(what)+" may have: "+strings.Join(names, ", "), "unknown key `%.40s`", kn.Text)
			default:
				if src != nil {
					src.Written(kn.Text, n.Items[i].At)
				}
				keys[k].read(r, n.Items[i], &v)
			}
		}
		if r.depth == 1 {
			r.section = ""
		}
		for _, k := range keys {
			if _, given := seen[k.name]; k.need && !given {
				r.problem(n.At, 0, k.doc, "%s needs the key `%s`", an(what), k.name)
			}
		}
		return v, true
	}}
}

// an puts the article before a noun.
func an(noun string) string {
	if strings.ContainsAny(noun[:1], "aeiou") {
		return "an " + noun
	}
	return "a " + noun
}

func firstFew(s []string, n int) []string { return s[:min(n, len(s))] }

// value describes a single value read by parse, whose errors say what was
// wrong.
func value[V any](say string, parse func(string) (V, error)) shape[V] {
	describe := func(definitions) schema {
		return schema{"type": []string{"string", "number"}, "title": say}
	}
	return shape[V]{schema: describe, say: say, read: func(r *reader, n Value) (V, bool) {
		var zero V
		if n.Kind != Scalar {
			r.expected(n, say)
			return zero, false
		}
		if len(n.Text) > maxText {
			r.problem(n.At, len(n.Text), "expected "+say, "%.40q… is too long, with %d characters: the most is %d", n.Text, utf8.RuneCountInString(n.Text), maxText)
			return zero, false
		}
		v, err := parse(n.Text)
		if err != nil {
			r.problem(n.At, len(n.Text), "expected "+say, "%s", err)
			return zero, false
		}
		return v, true
	}}
}

// words describes one word of a few.
func words(list ...string) shape[string] {
	s := value(policy.OrList(list), func(s string) (string, error) {
		if !slices.Contains(list, s) {
			return "", fmt.Errorf("%.40q is not allowed here%s", s, strings.TrimRight("; "+policy.DidYouMean(s, list), "; "))
		}
		return s, nil
	})
	s.schema = func(definitions) schema { return schema{"enum": list} }
	return s
}

// flag describes true or false.
var flag = shape[bool]{
	say:    "true or false",
	schema: func(definitions) schema { return schema{"type": "boolean"} },
	read: func(r *reader, n Value) (bool, bool) {
		if n.Kind != Scalar || n.Text != "true" && n.Text != "false" {
			r.expected(n, "true or false")
			return false, false
		}
		return n.Text == "true", true
	},
}

// either describes a single value, or an object in place of it.
func either[V any](single, object shape[V]) shape[V] {
	return shape[V]{say: single.say + ", or " + object.say,
		schema: func(d definitions) schema { return schema{"anyOf": []schema{single.schema(d), object.schema(d)}} },
		read: func(r *reader, n Value) (V, bool) {
			if n.Kind == Keyed {
				return object.read(r, n)
			}
			return single.read(r, n)
		}}
}

// as turns what a shape reads into something else.
func as[V, W any](s shape[V], turn func(V) W) shape[W] {
	return shape[W]{say: s.say, schema: s.schema, read: func(r *reader, n Value) (W, bool) {
		v, ok := s.read(r, n)
		return turn(v), ok
	}}
}

// matching adds the pattern that the single values of a shape follow. A number without a unit is no value where the pattern
// needs one, except 0 where the reader takes it.
func matching[V any](pattern string, s shape[V]) shape[V] {
	describe, read := s.schema, s.read
	s.schema = func(d definitions) schema {
		out := describe(d)
		out["pattern"] = pattern
		if regexp.MustCompile(pattern).MatchString("11") {
			return out
		}
		if out["type"] = "string"; s.takes(read, "0") {
			return schema{"title": s.say, "anyOf": []schema{out, {"enum": []any{0, "0"}}}}
		}
		return out
	}
	return s
}

// takes reports whether a shape reads a text.
func (s shape[V]) takes(read func(*reader, Value) (V, bool), text string) bool {
	_, ok := read(&reader{broken: make(map[string]bool)}, Value{Kind: Scalar, Text: text})
	return ok
}

// listed describes a single value that is one of some words, or follows a pattern.
func listed[V any](list []string, pattern string, s shape[V]) shape[V] {
	s.schema = func(definitions) schema {
		forms := []schema{{"enum": list}}
		if pattern != "" {
			forms = append(forms, schema{"type": []string{"string", "integer"}, "pattern": pattern, "minimum": 0})
		}
		return schema{"title": s.say, "anyOf": forms}
	}
	return s
}

// ref describes a name defined elsewhere.
func ref(say string) shape[policy.Ref] {
	return shape[policy.Ref]{schema: func(definitions) schema { return schema{"type": []string{"string", "number"}, "title": say} }, say: say, read: func(r *reader, n Value) (policy.Ref, bool) {
		if n.Kind != Scalar || n.Text == "" {
			r.expected(n, say)
			return policy.Ref{}, false
		}
		return policy.Ref{Text: n.Text, At: n.At}, true
	}}
}

// aPlace describes an interface, or a pattern of some, and a direction.
var aPlace = func() shape[placeRef] {
	name := ref("an interface and a direction, as `node/interface out`, or a pattern such as `*/wan out`")
	return shape[placeRef]{say: name.say, schema: func(definitions) schema {
		return schema{"type": "string", "pattern": `\s(in|out)$`, "title": name.say}
	}, read: func(r *reader, n Value) (p placeRef, ok bool) {
		if p.Ref, ok = name.read(r, n); !ok {
			return p, false
		}
		words := strings.Fields(p.Text)
		if len(words) == 0 {
			r.expected(n, name.say)
			return p, false
		}
		if len(words) == 2 && words[1] == policy.In.String() || len(words) == 2 && words[1] == policy.Out.String() {
			if p.Text = words[0]; words[1] == policy.Out.String() {
				p.direction = policy.Out
			}
			return p, true
		}
		what := fmt.Sprintf("`%.60s` names no direction", p.Text)
		if len(words) != 1 {
			what = fmt.Sprintf("`%.60s` is not an interface and a direction", p.Text)
		}
		r.problem(n.At, len(n.Text), fmt.Sprintf("write `%.60s out` for packets that leave there, or `%.60s in` for those that come in", words[0], words[0]), "%s", what)
		return p, false
	}}
}()

// list describes a list of one shape.
func list[V any](s shape[V]) shape[[]V] {
	return shape[[]V]{schema: func(d definitions) schema { return schema{"type": "array", "items": s.schema(d)} }, say: "a list, each item " + s.say, read: func(r *reader, n Value) ([]V, bool) {
		if n.Kind != List {
			r.expected(n, "a list, each item "+s.say)
			return nil, false
		}
		vs := make([]V, 0, len(n.Items))
		all := true
		for _, item := range n.Items {
			v, ok := s.read(r, item)
			all = all && ok
			vs = append(vs, v)
		}
		return vs, all
	}}
}

// oneOrMany describes one value or a list of them.
func oneOrMany[V any](s shape[V]) shape[[]V] {
	describe := func(d definitions) schema {
		one := s.schema(d)
		return schema{"anyOf": []schema{one, {"type": "array", "items": one, "minItems": 1}}}
	}
	return shape[[]V]{schema: describe, say: s.say + ", or a list of them", read: func(r *reader, n Value) ([]V, bool) {
		if n.Kind == List && len(n.Items) > 0 {
			return list(s).read(r, n)
		}
		v, ok := s.read(r, n)
		return []V{v}, ok
	}}
}

// named describes a set of names of the writer's own, each with a value of one
// shape; name puts the name into the value.
func named[V any](what string, s shape[V], name func(*V, policy.Ref)) shape[[]V] {
	say := "names of your own, each followed by " + s.say
	describe := func(d definitions) schema {
		return schema{"type": "object", "additionalProperties": s.schema(d), "propertyNames": schema{"pattern": identifierPattern}}
	}
	return shape[[]V]{schema: describe, say: say, read: func(r *reader, n Value) ([]V, bool) {
		if n.Kind != Keyed {
			r.expected(n, say)
			return nil, false
		}
		var vs []V // one that cannot be read has its name, so that what refers to it says nothing
		for i, kn := range n.Keys {
			id, _ := identifier(what).read(r, kn)
			v, _ := s.read(r, n.Items[i])
			name(&v, id)
			vs = append(vs, v)
		}
		return vs, true
	}}
}

const identifierPattern = "^[A-Za-z0-9][A-Za-z0-9._-]{0,63}$"

// identifier describes a name of the writer's own.
func identifier(what string) shape[policy.Ref] {
	say := "a name for the " + what + " of letters, digits, '-', '_' and '.', that begins with a letter or digit, at most 64 long"
	describe := func(definitions) schema {
		return schema{"type": []string{"string", "number"}, "pattern": identifierPattern}
	}
	return shape[policy.Ref]{schema: describe, say: say, read: func(r *reader, n Value) (policy.Ref, bool) {
		ok := n.Kind == Scalar && n.Text != "" && len(n.Text) <= 64 && !strings.ContainsAny(n.Text[:1], "-_.")
		for _, c := range n.Text {
			ok = ok && (c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || strings.ContainsRune("-_.", c))
		}
		if !ok {
			r.expected(n, say)
			return policy.Ref{}, false
		}
		return policy.Ref{Text: n.Text, At: n.At}, true
	}}
}
