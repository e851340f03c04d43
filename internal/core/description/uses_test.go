package description

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestUses holds that each action says what it is given and what is read, in words that the language has.
func TestUses(t *testing.T) {
	for action := range uses {
		assert.Contains(t, actionNames, action, "no action has this name")
	}
	for _, action := range actionNames {
		_, told := uses[action]
		assert.True(t, told, "uses.go does not say what %s is given, and what is read of its answers", action)
		for _, v := range UseOf(action).Variables {
			assert.Contains(t, variableNames, v, action)
		}
		for _, f := range UseOf(action).Fields {
			assert.Contains(t, fieldNames, f, action)
		}
	}
	for _, v := range variableNames { // and that each of them is of use
		assert.True(t, slices.Contains(Everywhere, v) || slices.Contains(PagingVariables, v) || v == "file" ||
			slices.ContainsFunc(actionNames, func(a string) bool { return slices.Contains(UseOf(a).Variables, v) }), v)
	}
	assert.Equal(t, Vars{"title": "line"}, Given("key-add", Vars{"title": "line", "branch": "main"}), "what it is not told to have it has not")
	assert.Equal(t, []string{"branch"}, ungiven("key-list", []string{"user", "branch", "cursor", "mine"}, []string{"mine"}))
	assert.Equal(t, []string{"right"}, ungiven("key-list", []string{"right.mask"}, nil))
}

// TestEmptyVariableIsRemarked tells of one that an action uses, and that nothing gives it.
func TestEmptyVariableIsRemarked(t *testing.T) {
	d, mistakes := Load([]byte("language = 1\nname = \"skua\"\nbase = \"https://skua.example\"\n[address]\napi = \"{+base}/api\"\nhttps = \"{+base}/{owner}/{name}.git\"\n" +
		"[signin]\nheader = { Authorization = \"Bearer {token}\" }\n[action.identify]\n[[action.identify.request]]\nurl = \"{+api}/me/{branch}\"\nread = { user = \"$.me\" }\n"))
	assert.Empty(t, mistakes)
	assert.Contains(t, d.Remarks, "action.identify uses {branch}, which stays empty: nothing gives it there")
}
