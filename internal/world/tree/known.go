package tree

import (
	"encoding/binary"
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"slices"
	"sync"

	"uncinate/internal/core/secrets"
	"uncinate/internal/core/survey"
	"uncinate/internal/world/files"
)

// Known remembers what files held, to be asked instead of reading them again. A file
// counts as unchanged while its path, size and times are: of the times the one that
// nobody can set among them, where the system tells it. What changed in the moments
// before it was looked at is not remembered: a second change might bear the same time.
type Known struct {
	path  string
	label string // what was looked for; another label makes all unknown
	since int64  // what changed after this, in nanoseconds, is not remembered

	mu    sync.Mutex
	old   []entry     // as they were kept: in the order of the files' paths
	next  int         // the one that is looked for next, as long as nothing changed
	byKey map[key]int // places in old, made when something has changed
	new   []entry
	hits  int
}

// entry is what is known of one file.
type entry struct {
	key
	place   int // of the file, in its list
	content secrets.Content
}

type key struct {
	path          [2]uint64
	size          int64
	mtime, change int64
}

// knownForm is the form of the file: its first bytes.
const knownForm = "uncinate known 1\n"

// mostKnown is how many bytes of what is remembered are read.
const mostKnown = 512 << 20

// Remember opens what is remembered at a path under a label. now is the time of the
// look, in nanoseconds. A file that cannot be read, or that is damaged, counts as empty.
func Remember(path, label string, now int64) *Known {
	k := &Known{path: path, label: label, since: now - 2e9}
	data, err := files.Read(path, mostKnown)
	if err != nil {
		return k
	}
	if old, ok := readKnown(data, label); ok {
		k.old, k.new = old, make([]entry, 0, len(old)+16)
	}
	return k
}

func pathKey(p string) [2]uint64 {
	// Two fixed multiplications spread well enough: a wrong hit needs the same size and
	// times too.
	var a, b uint64 = 14695981039346656037, 1099511628211
	for i := range len(p) {
		a = (a ^ uint64(p[i])) * 1099511628211
		b = (b + uint64(p[i])) * 0x9e3779b97f4a7c15
		b ^= b >> 29
	}
	return [2]uint64{a, b}
}

func keyOf(f *survey.File) key { return key{pathKey(f.Path), f.Size, f.ModTime, f.Changed} }

func (k *Known) look(place int, f *survey.File) (secrets.Content, bool) {
	want := keyOf(f)
	at := k.next
	if at >= len(k.old) || k.old[at].key != want {
		if k.byKey == nil {
			k.byKey = make(map[key]int, len(k.old))
			for i := range k.old {
				k.byKey[k.old[i].key] = i
			}
		}
		var ok bool
		if at, ok = k.byKey[want]; !ok {
			return secrets.Content{}, false
		}
	}
	k.next = at + 1
	k.hits++
	k.new = append(k.new, entry{want, place, k.old[at].content})
	return k.old[at].content, true
}

// keeps reports whether what a file holds may be remembered.
func (k *Known) keeps(f *survey.File) bool {
	return k != nil && max(f.ModTime, f.Changed) < k.since
}

func (k *Known) add(all []entry) {
	if k == nil {
		return
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	k.new = append(k.new, all...)
}

// Keep writes what is known now, of the files that were asked for, if it is not what
// is kept already.
func (k *Known) Keep() error {
	if k.hits == len(k.old) && len(k.new) == len(k.old) {
		return nil
	}
	if len(k.new) == 0 {
		if err := os.Remove(k.path); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		return nil
	}
	data := append([]byte(knownForm), byte(len(k.label)))
	data = append(data, k.label...)
	for _, e := range inPlace(k.new) {
		data = binary.LittleEndian.AppendUint64(data, e.path[0])
		data = binary.LittleEndian.AppendUint64(data, e.path[1])
		for _, n := range []int64{e.size, e.mtime, e.change} {
			data = binary.LittleEndian.AppendUint64(data, uint64(n))
		}
		more := []byte(nil)
		if worth(e.content) {
			var err error
			if more, err = json.Marshal(e.content); err != nil {
				return err
			}
		}
		data = binary.LittleEndian.AppendUint32(data, uint32(len(more)))
		data = append(data, more...)
	}
	data = binary.LittleEndian.AppendUint64(data, sum(data))
	return files.Dump(k.path, data)
}

// inPlace puts entries in the order of their files, of which each has one at most: by their places, which is quicker than to sort.
func inPlace(all []entry) []*entry {
	most := 0
	for i := range all {
		most = max(most, all[i].place)
	}
	out := make([]*entry, most+1)
	for i := range all {
		out[all[i].place] = &all[i]
	}
	return slices.DeleteFunc(out, func(e *entry) bool { return e == nil })
}

// sum finds damage by accident; whoever can write the file can write a sum too.
func sum(data []byte) uint64 {
	var s uint64 = 14695981039346656037
	for len(data) >= 8 {
		s = (s ^ binary.LittleEndian.Uint64(data)) * 1099511628211
		s ^= s >> 31
		data = data[8:]
	}
	for _, c := range data {
		s = (s ^ uint64(c)) * 1099511628211
	}
	return s
}

func readKnown(data []byte, label string) ([]entry, bool) {
	head := append([]byte(knownForm), byte(len(label)))
	head = append(head, label...)
	if len(data) < len(head)+8 || string(data[:len(head)]) != string(head) {
		return nil, false
	}
	end := len(data) - 8
	if sum(data[:end]) != binary.LittleEndian.Uint64(data[end:]) {
		return nil, false
	}
	rest := data[len(head):end]
	out := make([]entry, 0, len(rest)/44)
	for len(rest) >= 44 {
		number := func(i int) uint64 { return binary.LittleEndian.Uint64(rest[8*i:]) }
		f := key{[2]uint64{number(0), number(1)}, int64(number(2)), int64(number(3)), int64(number(4))}
		n := int(binary.LittleEndian.Uint32(rest[40:]))
		rest = rest[44:]
		if n < 0 || n > len(rest) {
			return nil, false
		}
		var c secrets.Content
		if n > 0 && json.Unmarshal(rest[:n], &c) != nil {
			return nil, false
		}
		out = append(out, entry{key: f, content: c})
		rest = rest[n:]
	}
	return out, len(rest) == 0
}
