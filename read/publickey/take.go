package publickey

import (
	"strings"

	"toril/model"
	"toril/read/table"
)

// Take gives a party the public keys that some keywords of its connection say: keys themselves, or the files that they lie in. A value
// that begins with "%" says where else they are; one of "ckaid" names a key by its number.
func Take(f *table.Section, p *model.Party, keywords ...string) {
	p.Keyed = f.Says(keywords...)
	for _, v := range f.Values {
		for _, k := range keywords {
			if v.Key != k {
				continue
			}
			v.Used = true
			if v.Text == "" || strings.HasPrefix(v.Text, "%") {
				continue
			}
			text := strings.TrimPrefix(strings.TrimPrefix(v.Text, "dns:"), "ssh:") // how it is encoded
			key, err := FromText(text, v.At)
			switch {
			case strings.HasSuffix(k, "ckaid"):
				p.KeyedElsewhere = true
			case err == nil:
				p.PublicKeys = append(p.PublicKeys, key)
			case strings.HasPrefix(text, "0x") || strings.HasPrefix(text, "0s"):
				p.KeyedElsewhere = true
			default:
				p.KeyFiles = append(p.KeyFiles, text)
			}
		}
	}
}
