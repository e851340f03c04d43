package screen

import (
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"uncinate/internal/core/description"
)

// DescriptionsPage writes the reference page of the language of host descriptions, in Markdown.
func DescriptionsPage(w io.Writer) {
	say := func(format string, args ...any) { fmt.Fprintf(w, format+"\n", args...) }
	cell := func(s string) string { return strings.ReplaceAll(strings.ReplaceAll(s, "|", `\|`), "<", "&lt;") }
	say("# The language of host descriptions\n\nThis page is made from the program: `uncinate help --descriptions`. What it is about is in\n[host-descriptions.md](host-descriptions.md), and a JSON Schema for editors in [description-schema.json](description-schema.json).\n")
	say("Where a value is: `\"$.path\"` (JSONPath, RFC 9535), `\"header NAME\"`, `\"cookie NAME\"`, or a table of `at` with one of these and\n`strip` (a prefix to take off), `split` (signs at which it is a list), `as` (`rfc3339`, `epoch` or a layout of a time, and in [rate]\nand [signin.exchange] `seconds` from now on) and `cut` (a template that is read backwards).")
	table := "-"
	for _, k := range description.Keys() {
		if k.Table != table {
			table = k.Table
			title := "[" + table + "]"
			switch {
			case table == "":
				title = "The file's top"
			case table == "refusal", strings.HasSuffix(table, ".request"):
				title = "[[" + table + "]]"
			}
			say("\n## %s\n\n| key | holds | what it says | example |\n|---|---|---|---|", strings.ReplaceAll(title, "*", "NAME"))
		}
		say("| `%s` | %s | %s | `%s` |", k.Name, k.Kind, cell(k.Says), cell(k.Example))
	}
	say("\n## Actions\n\nWhat the program asks a host for, the command that does, and the actions that it takes.\n\n| what | command | actions |\n|---|---|---|")
	told := map[string]bool{}
	for _, a := range (&description.Description{}).Abilities() {
		say("| %s | `%s` | `%s` |", a.What, a.Command, strings.Join(a.Actions, "`, `"))
		for _, name := range a.Actions {
			told[name] = true
		}
	}
	if rest := slices.DeleteFunc(slices.Clone(description.Actions), func(a string) bool { return told[a] }); len(rest) > 0 {
		say("\nMay be described, and no command asks for it yet: `%s`.", strings.Join(rest, "`, `"))
	}
	usesPage(say)
	say("\n## Fields\n\n| field | holds | what it is |\n|---|---|---|")
	for _, name := range description.Fields {
		say("| `%s` | %s | %s |", name, description.FieldSays[name][0], description.FieldSays[name][1])
	}
	say("\n## Variables\n\n| variable | what stands for it |\n|---|---|")
	for _, name := range description.Variables {
		say("| `{%s}` | %s |", name, description.VariableSays[name])
	}
	say("\n## Meanings of refusals\n\n`%s`", strings.Join(description.Meanings, "`, `"))
}

// usesPage writes what each action is given, and what is read of its answers.
func usesPage(say func(format string, args ...any)) {
	ticked := func(before string, names []string, after string) string {
		var out []string
		for _, n := range names {
			out = append(out, "`"+before+n+after+"`")
		}
		return strings.Join(out, " ")
	}
	say("\n## What each action is given, and what is read\n\nEvery action is given %s besides, and a list %s for its pages.\nWhat is not in the third column may be read, and nothing asks for it.\n\n| action | variables | fields |\n|---|---|---|", ticked("{", description.Everywhere, "}"), ticked("{", description.PagingVariables, "}"))
	groups := description.FieldGroups()
	for _, name := range description.Actions {
		use := description.UseOf(name)
		fields := ticked("", use.Fields, "")
		for of, group := range groups {
			if slices.Equal(group, use.Fields) {
				fields = "those of " + of
			}
		}
		say("| `%s` | %s | %s |", name, ticked("{", use.Variables, "}"), fields)
	}
	for _, of := range slices.Sorted(maps.Keys(groups)) {
		say("\nThose of %s: %s.", of, ticked("", groups[of], ""))
	}
}
