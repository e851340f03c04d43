package vault

import "uncinate/internal/world/files"

// Whoever can write in the vault's folder can put an old file back in the place of the newer one:
// it opens as it did, and what was forgotten or replaced since is valid again. So each change is
// counted, in the sealed file and outside of the vault.

// countName is the name under which the number of changes is sealed among the secrets; no secret
// has such a name.
const countName = "\x00changes"

// seenVault is what is noted outside of the vault.
type seenVault struct {
	Generation int `json:"generation"`
	Changes    int `json:"changes"`
}

// CountIn sets the file in which changes are counted, and who is told when the vault is older than
// it was: by how many changes it is, and was.
func (v *Vault) CountIn(path string, older func(is, was int)) { v.notes, v.older = path, older }

func (v *Vault) noted() seenVault {
	var was seenVault
	if v.notes == "" {
		return was
	}
	if _, err := files.ReadJSON(v.notes, &was); err != nil {
		return seenVault{} // a damaged note tells of nothing; the next change writes it again
	}
	return was
}

func (v *Vault) note(now seenVault) error {
	if v.notes == "" {
		return nil
	}
	return files.WriteJSON(v.notes, now)
}

// compare tells when the vault is older than it was.
func (v *Vault) compare(info Info) {
	was := v.noted()
	if v.older == nil || v.count >= was.Changes && info.Generation >= was.Generation {
		return
	}
	older := v.older
	v.older = nil // once is enough
	older(v.count, was.Changes)
}
