package site

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/require"
)

// Every key has its meaning, and every meaning its key.
func TestTheSchemaSaysWhatEachKeyMeans(t *testing.T) {
	t.Parallel()
	all, met := meanings(meaningsText), map[string]bool{}
	described(siteShape().form(), "", func(path string) meaning {
		at, m := meaningOf(all, path)
		if m.text == "" && !strings.HasSuffix(path, ".*") { // names that are free may go without
			t.Errorf("meanings.txt does not say what %s means", at)
		}
		met[at] = true
		return m
	})
	for _, path := range slices.Sorted(maps.Keys(all)) {
		require.True(t, met[path], "there is no key %s", path)
		require.Regexp(t, `^[a-zA-Z"].*[^.]$`, all[path].text, path)
	}
}

// defaultsIn are small sites with a place for one more line of a mapping.
var defaultsIn = map[string]string{
	"servers.": `servers: [{name: s, protocol: %s, address: 192.0.2.1, key: k,
  LINE}]`,
	"servers.ports.": `servers: [{name: s, protocol: radius, address: 192.0.2.1, key: k, ports: {
  LINE}}]`,
	"lists.": `lists: [{name: l, authorize: commands, methods: [none],
  LINE}]`,
	"elevation-secrets.": `elevation-secrets: [{name: e, password: "HASH",
  LINE}]`,
	"people.": `people: [{name: p, password: "HASH",
  LINE}]`,
	"roles.": `roles: [{name: r, level: 3, commands: [allow **],
  LINE}]`,
	"roles.send.tacacs.": `roles: [{name: r, level: 3, send: {tacacs: [{name: a, value: b,
  LINE}]}}]`,
	"grants.": `grants: [{who: [person p], role: r,
  LINE}]
people: [{name: p, password: "HASH"}]
roles: [{name: r, level: 3}]`,
	"platforms.behaviour.": `platforms: [{name: d, behaviour: {
  LINE}}]`,
	"rates.":          "rates: {\n  LINE}",
	"lab.":            "lab: {\n  LINE}",
	"service.":        "service: {\n  LINE}",
	"service.keep.":   "service: {keep: {\n  LINE}}",
	"service.limits.": "service: {limits: {\n  LINE}}",
	"vendors.commands.": `vendors: [{name: V, number: 9, attributes: [{name: A, number: 1, type: text},
  {name: B, number: 2, type: text}], commands: {allow: A, refuse: B,
  LINE}}]`,
}

// What the schema gives as default is what holds where the key is not written.
func TestADefaultChangesNothing(t *testing.T) {
	t.Parallel()
	hash := "$5$rounds=1000$abcdefgh$m2Vlkf8PmGXpUxJpzqpLFrMuQyNAoTLLXRmWg4fxTV9"
	for path, m := range meanings(meaningsText) {
		// A way in that is off is noted with its place, and "" is the folder records.
		if m.unless == nil || strings.HasPrefix(path, "devices.access.") || path == "service.ledger" {
			continue
		}
		t.Run(path, func(t *testing.T) {
			t.Parallel()
			cut := strings.LastIndex(path, ".") + 1
			text, is := defaultsIn[path[:cut]]
			require.True(t, is, "defaultsIn has no site for it")
			protocol := "tacacs"
			switch path[cut:] {
			case "message-authenticator":
				protocol = "radius"
			case "find":
				protocol = "ldap"
			}
			if protocol == "ldap" {
				text = strings.ReplaceAll(text, "key: k,", "base: b,")
			}
			text = strings.ReplaceAll(text, "%s", protocol)
			text = strings.ReplaceAll("site: S\nkeys: {k: sealed}\n"+text+"\n", "HASH", hash)
			value, err := json.Marshal(m.unless)
			require.NoError(t, err)
			read := func(line string) *Site {
				s, err := Parse(Source{Name: "site.yaml", Text: []byte(strings.Replace(text, "LINE", line, 1))})
				require.NoError(t, err, line)
				return s
			}
			require.Equal(t, plain(read("")), plain(read(path[cut:]+": "+string(value))))
		})
	}
}

// plain returns what a site says in one text, without the places where it says it, and
// without whether it says it.
func plain(s *Site) string {
	var b strings.Builder
	met := map[any]bool{}
	var each func(v reflect.Value)
	each = func(v reflect.Value) {
		switch v.Kind() {
		case reflect.Pointer:
			if v.IsNil() || met[v.Pointer()] {
				return
			}
			met[v.Pointer()] = true
			each(v.Elem())
		case reflect.Struct:
			for i := range v.NumField() {
				field := v.Type().Field(i)
				if field.Type == reflect.TypeFor[Place]() || strings.HasSuffix(field.Name, "Said") ||
					field.Name == "said" {
					continue
				}
				fmt.Fprintf(&b, "%s{", field.Name)
				each(v.Field(i))
				b.WriteString("}")
			}
		case reflect.Slice, reflect.Array:
			for i := range v.Len() {
				each(v.Index(i))
				b.WriteString(",")
			}
		case reflect.Map:
			fmt.Fprintf(&b, "%d keys", v.Len())
		case reflect.Interface:
			each(v.Elem())
		case reflect.Func, reflect.Chan, reflect.Invalid:
		default:
			fmt.Fprintf(&b, "%v", v)
		}
	}
	each(reflect.ValueOf(s))
	return b.String()
}

func TestDefaultsFitTheirOwnForms(t *testing.T) {
	t.Parallel()
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(Schema()))
	require.NoError(t, err)
	var each func(v any, path string)
	each = func(v any, path string) {
		switch v := v.(type) {
		case map[string]any:
			if unless, has := v["default"]; has && !strings.HasSuffix(path, "/properties") {
				c := jsonschema.NewCompiler()
				part := maps.Clone(v)
				require.NoError(t, c.AddResource("part.json", part))
				s, err := c.Compile("part.json")
				require.NoError(t, err, path)
				require.NoError(t, s.Validate(unless), path)
			}
			for key, part := range v {
				each(part, path+"/"+key)
			}
		case []any:
			for _, part := range v {
				each(part, path)
			}
		}
	}
	each(doc, "")
}
