package rehearse

import (
	"os/exec"
	"slices"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
)

// chapter is a part of the tour that can be chosen.
type chapter struct {
	name, title string
	needs       []string // what is done unseen before it, if it was not
	does        []string // what is done with it
	scenes      func(t *tour) []scene
}

// need is what a chapter begins with.
type need struct {
	after  []string
	scenes func(t *tour) []scene
}

// signsIn lets a machine know gannet, and gives it tern's account.
func (t *tour) signsIn(m, about string, token int) []scene {
	return []scene{{m, about, "", "uncinate host add gannet --at " + t.gannet.URL, "", 0}, {m, "", "", "uncinate vault make --by file", "", 0}, {m, "", "", "uncinate account add tern --host gannet", t.tokens[token], 0}}
}

var needs = map[string]need{
	"account":  {nil, func(t *tour) []scene { return t.signsIn("pier", "", 0) }},
	"attached": {[]string{"account"}, func(*tour) []scene { return []scene{{"pier", "", "gauge-firmware", "uncinate attach --yes", "", 0}} }},
	"almanac": {[]string{"account"}, func(*tour) []scene {
		return []scene{{"pier", "", "tide-almanac", "uncinate ignore add config/settings.local.toml config/places.toml", "", 0}, {"pier", "", "tide-almanac", "uncinate attach --yes", "", 0}}
	}},
	"cloned": {[]string{"attached"}, func(t *tour) []scene {
		return append(t.signsIn("launch", "", 1), scene{"launch", "", "", "uncinate clone gauge-firmware", "", 0})
	}},
}

var chapters = []chapter{
	{"attach", "look at what would go up, publish it, and see that nothing goes up by accident", nil, []string{"account", "attached", "almanac"}, func(t *tour) []scene {
		return append(t.signsIn("pier", "1. On pier, the office computer: add the host, and your account on it", 0), []scene{
			{"pier", "2. Look at what would go up and what would happen, then let it happen", "gauge-firmware", "uncinate survey", "", 0},
			{"pier", "", "gauge-firmware", "uncinate attach --preview", "", 0},
			{"pier", "", "gauge-firmware", "uncinate attach --yes", "", 0},
			{"pier", "", "gauge-firmware", "uncinate attach --yes", "", 0},
			{"pier", "3. Another project holds a token and this machine's paths: nothing of it goes up by accident", "tide-almanac", "uncinate attach --yes", "", int(fault.Refused)},
			{"pier", "", "tide-almanac", "uncinate ignore add config/settings.local.toml config/places.toml", "", 0},
			{"pier", "", "tide-almanac", "uncinate attach --yes", "", 0},
		}...)
	}},
	{"every-day", "clone, save, receive and send, on two machines", []string{"attached", "almanac"}, []string{"cloned", "in step"}, func(t *tour) []scene {
		return append(t.signsIn("launch", "1. On launch, the laptop aboard: the same account, then the same project", 1), []scene{
			{"launch", "", "", "uncinate clone gauge-firmware", "", 0},
			{"launch", "2. Work aboard with plain git: it signs in by itself", "gauge-firmware", "edit src/level.h", "", 0},
			{"launch", "", "gauge-firmware", "git commit -q -a -m 'Correct the level by the datum'", "", 0},
			{"launch", "", "gauge-firmware", "git push -q", "", 0},
			{"pier", "3. Back on pier, where something was written meanwhile: save it, receive and send, in one", "gauge-firmware", "edit README.md", "", 0},
			{"pier", "", "gauge-firmware", "uncinate", "", 0},
			{"pier", "", "gauge-firmware", "uncinate changes", "", 0},
			{"pier", "", "gauge-firmware", "uncinate sync --save --message 'Say where the gauge stands'", "", 0},
			{"pier", "", "gauge-firmware", "uncinate history", "", 0},
			{"launch", "4. And launch follows, with all its projects at once", "", "uncinate clone tide-almanac", "", 0},
			{"launch", "", "", "uncinate status --all", "", 0},
			{"launch", "", "", "uncinate sync --all", "", 0},
		}...)
	}},
	{"clashes", "both changed the same line: foreseen, decided, and nothing lost", []string{"cloned"}, []string{"in step"}, func(*tour) []scene {
		return []scene{
			{"pier", "1. Both write to the same line; pier is first", "gauge-firmware", "edit README.md 'The sensor is on the north side.'", "", 0},
			{"pier", "", "gauge-firmware", "uncinate sync --save --message 'Say where the sensor is'", "", 0},
			{"launch", "", "gauge-firmware", "edit README.md 'The sensor is on the south side.'", "", 0},
			{"launch", "2. It is seen before anything is received, and stops where only a person can decide", "gauge-firmware", "uncinate status", "", 0},
			{"launch", "", "gauge-firmware", "uncinate sync --save --message 'The sensor is elsewhere'", "", int(fault.Decision)},
			{"launch", "", "gauge-firmware", "uncinate settle show README.md", "", 0},
			{"launch", "3. Decided for the own side, and sent; pier follows", "gauge-firmware", "uncinate settle mine README.md", "", 0},
			{"pier", "", "gauge-firmware", "uncinate sync", "", 0},
			{"pier", "4. What is not wanted is taken back, and is kept all the same", "gauge-firmware", "edit README.md 'Spoilt.'", "", 0},
			{"pier", "", "gauge-firmware", "uncinate undo changes --yes", "", 0},
			{"pier", "", "gauge-firmware", "uncinate rescue list", "", 0},
		}
	}},
	{"with-others", "three people, invitations, branches, protected branches, offers, on two hosts", []string{"account"}, nil, func(t *tour) []scene { return t.others.script() }},
	{"servers", "a server that follows a branch, and goes back", []string{"account"}, nil, func(t *tour) []scene {
		return append([]scene{{"pier", "1. On pier a page is published, with what a server does to show it", "inlet-board", "uncinate attach --account tern --yes", "", 0}}, append(t.signsIn("isle", "2. On isle, the server, nothing of it runs before a person approved it there", 4), []scene{
			{"isle", "", "", "uncinate deploy make tern/inlet-board board --over https --yes", "", 0},
			{"isle", "", "", "uncinate deploy approve board --yes", "", 0},
			{"isle", "", "", "uncinate deploy list", "", 0},
			{"pier", "3. The page changes, and the server follows", "inlet-board", "edit site/index.html '<p>Slack water at noon.</p>'", "", 0},
			{"pier", "", "inlet-board", "uncinate sync --save --message 'Tell of slack water'", "", 0},
			{"isle", "", "", "uncinate deploy update board", "", 0},
			{"isle", "4. Back, in a moment", "", "uncinate deploy back board", "", 0},
		}...)...)
	}},
	{"new-machine", "the life of a token, and a machine that takes all over", []string{"cloned"}, nil, func(t *tour) []scene {
		theirs := t.tokens[5]
		if t.others != nil { // pier has an account on petrel too, then
			theirs += "\n" + t.others.token["petrel tern"]
		}
		return []scene{
			{"launch", "1. The life of a token: one that expires soon is warned of, replaced, tested, revoked", "gauge-firmware", "uncinate token replace tern --yes", t.tokens[2], 0},
			{"launch", "", "gauge-firmware", "uncinate sync", "", 0},
			{"launch", "", "gauge-firmware", "uncinate token replace tern --yes", t.tokens[3], 0},
			{"launch", "", "gauge-firmware", "uncinate token test tern", "", 0},
			{"launch", "", "gauge-firmware", "uncinate token revoke tern --yes", "", 0},
			{"launch", "", "gauge-firmware", "uncinate sync", "", int(fault.Decision)},
			{"buoy", "2. A new machine, buoy: its key tells for whom the set-up is sealed, and no secret is in it", "", "ssh-keygen -q -t ed25519 -N '' -C buoy -f id", "", 0},
			{"pier", "", "", "uncinate machine pack set-up.age --to ../buoy/id.pub --yes", "", 0},
			{"buoy", "", "", "uncinate vault make --by file", "", 0},
			{"buoy", "", "", "uncinate machine unpack ../pier/set-up.age --key id --yes", theirs, 0},
			{"buoy", "", "", "uncinate status --all", "", 0},
		}
	}},
}

func chapterNames() []string {
	var all []string
	for _, c := range chapters {
		all = append(all, c.name)
	}
	return all
}

// chosenChapters are those that are named, in the tour's order; all of them where none is.
func chosenChapters(names []string) ([]chapter, error) {
	if len(names) == 0 {
		return chapters, nil
	}
	all := chapterNames()
	for _, n := range names {
		if !slices.Contains(all, n) {
			f := fault.New(fault.Usage, "the tour has no chapter %s; it has %s", text.Quote(n), strings.Join(all, ", "))
			if near := text.Nearest(n, all); near != "" {
				f.Try("did you mean", text.Command("uncinate", "tour", near))
			}
			return nil, f
		}
	}
	return slices.DeleteFunc(slices.Clone(chapters), func(c chapter) bool { return !slices.Contains(names, c.name) }), nil
}

// needKeygen looks for the program by which the chapter new-machine makes a key, where that is played.
func needKeygen(chosen []chapter) error {
	if !slices.ContainsFunc(chosen, func(c chapter) bool { return c.name == "new-machine" }) {
		return nil
	}
	if _, err := exec.LookPath("ssh-keygen"); err != nil {
		return fault.New(fault.Failed, "the chapter new-machine makes an SSH key, and ssh-keygen is not on the PATH").
			Try("on Debian and its kin", "sudo apt install openssh-client").Try("or play the others", "uncinate tour attach every-day clashes with-others servers")
	}
	return nil
}
