package vault

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"maps"
	"strconv"

	"filippo.io/age"

	"uncinate/internal/world/files"
)

// mostSecrets is the largest file of secrets, in bytes, that is read.
const mostSecrets = 16 << 20

// write seals the secrets, with the number of the change, which is noted outside of the vault too.
func (v *Vault) write(info Info, to *age.X25519Recipient, all map[string]string) error {
	count := max(v.count, v.noted().Changes) + 1
	counted := maps.Clone(all)
	counted[countName] = strconv.Itoa(count)
	plain, err := json.Marshal(counted)
	if err != nil {
		return err
	}
	sealed, err := seal(plain, to)
	if err != nil {
		return err
	}
	if err := keep(info.secretsPath(), sealed); err != nil {
		return err
	}
	v.count = count
	return v.note(seenVault{Generation: info.Generation, Changes: count})
}

func seal(plain []byte, to age.Recipient) ([]byte, error) {
	var out bytes.Buffer
	w, err := age.Encrypt(&out, to)
	if err == nil {
		_, err = w.Write(plain)
	}
	if err == nil {
		err = w.Close()
	}
	return out.Bytes(), err
}

func open(sealed []byte, with age.Identity) ([]byte, error) {
	r, err := age.Decrypt(bytes.NewReader(sealed), with)
	if err != nil {
		return nil, err
	}
	return io.ReadAll(io.LimitReader(r, 16<<20))
}

func (v *Vault) read(ctx context.Context, mayAsk bool) (map[string]string, *age.X25519Identity, Info, error) {
	all, id, info, err := v.readOnce(ctx, mayAsk)
	if now, found, e := v.info(); err != nil && e == nil && found && now.Generation != info.Generation {
		return v.readOnce(ctx, mayAsk) // it was changed while we read
	}
	return all, id, info, err
}

func (v *Vault) readOnce(ctx context.Context, mayAsk bool) (map[string]string, *age.X25519Identity, Info, error) {
	info, found, err := v.info()
	if err == nil && !found {
		err = Missing()
	}
	if err != nil {
		return nil, nil, info, err
	}
	id, err := v.identity(ctx, info, mayAsk)
	if err != nil {
		if kept, e := readInfo(copyOf(v.infoPath())); e == nil && kept.Generation == info.Generation && kept.Recipient != info.Recipient {
			// Two of three tell of the same identity, so vault.json is the damaged one.
			return nil, nil, info, damaged("is damaged", v.infoPath(), func([]byte) error { return nil })
		}
		return nil, nil, info, err
	}
	all := map[string]string{}
	take := func(data []byte) error {
		plain, err := open(data, id)
		if err == nil {
			err = json.Unmarshal(plain, &all)
		}
		return err
	}
	data, err := files.Read(info.secretsPath(), mostSecrets)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, nil, info, damaged("is gone", info.secretsPath(), take)
	case err != nil:
		return nil, nil, info, err
	}
	if err := take(data); err != nil {
		return nil, nil, info, damaged("is damaged", info.secretsPath(), take)
	}
	v.count, _ = strconv.Atoi(all[countName]) // one that was written before there was a count has none
	delete(all, countName)
	for _, secret := range all {
		v.seen(secret)
	}
	v.compare(info)
	return all, id, info, nil
}
