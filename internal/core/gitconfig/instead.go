package gitconfig

import "strings"

// Instead is the address to which git goes when it is given another: where a setting names its beginning, the longest
// such beginning is put aside for what the setting stands below (git-config documentation, url.<base>.insteadOf).
func Instead(all []Setting, to string) string {
	base, longest := "", 0
	for _, s := range all {
		section, sub, name := Split(s.Key)
		if section == "url" && name == "insteadof" && len(s.Value) > longest && strings.HasPrefix(to, s.Value) {
			base, longest = sub, len(s.Value)
		}
	}
	return base + to[longest:]
}
