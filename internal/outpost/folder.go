package outpost

import (
	"crypto/ecdh"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/google/uuid"

	"widelark/core/policy"
	"widelark/internal/parcel"
)

// Folder is where a gate elsewhere keeps what it runs, who it is, and what waits for the service. One process uses it at a time.
type Folder struct{ dir string }

// Identity is who a gate elsewhere is, and which service it obeys.
type Identity struct {
	Service    string            `json:"service"` // its address, as http://10.40.0.2:8470
	ID         uuid.UUID         `json:"id"`
	Name       string            `json:"name"`
	Kind       policy.Gate       `json:"kind"`
	ServiceKey ed25519.PublicKey `json:"serviceKey"` // that signs what the gate runs
	Seed       []byte            `json:"seed"`       // of the key that signs the gate's requests
	SealSeed   []byte            `json:"sealSeed"`   // of the key for which secrets are sealed
}

// newIdentity returns an identity with keys of its own.
func newIdentity(service string) (Identity, error) {
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return Identity{}, err
	}
	seal, err := ecdh.X25519().GenerateKey(rand.Reader)
	if err != nil {
		return Identity{}, err
	}
	return Identity{Service: service, Seed: key.Seed(), SealSeed: seal.Bytes()}, nil
}

func (i *Identity) key() ed25519.PrivateKey { return ed25519.NewKeyFromSeed(i.Seed) }

func (i *Identity) sealKey() (*ecdh.PrivateKey, error) {
	return ecdh.X25519().NewPrivateKey(i.SealSeed)
}

// ErrNotEnrolled says that a folder is no gate's yet.
var ErrNotEnrolled = errors.New("this gate is not enrolled: make a code with `widelark gate enrol NAME`, and give it with --enrol")

// OpenFolder opens a folder, and makes it where there is none.
func OpenFolder(dir string) (*Folder, error) {
	for _, part := range []string{"parts", "editions", "spool"} {
		if err := os.MkdirAll(filepath.Join(dir, part), 0o700); err != nil {
			return nil, fmt.Errorf("the gate's folder cannot be made: %w", err)
		}
	}
	return &Folder{dir}, nil
}

func (f *Folder) path(parts ...string) string {
	return filepath.Join(append([]string{f.dir}, parts...)...)
}

// put stores a file as a whole or not at all.
func (f *Folder) put(data []byte, sync bool, parts ...string) error {
	path := f.path(parts...)
	file, err := os.CreateTemp(filepath.Dir(path), ".new-*")
	if err != nil {
		return err
	}
	_, err = file.Write(data)
	if err == nil && sync {
		err = file.Sync()
	}
	if err = errors.Join(err, file.Close()); err == nil {
		err = os.Rename(file.Name(), path)
	}
	if err != nil {
		return errors.Join(err, os.Remove(file.Name()))
	}
	return nil
}

// Identity returns who the gate is; [ErrNotEnrolled] where it is nobody yet.
func (f *Folder) Identity() (i Identity, err error) {
	text, err := os.ReadFile(f.path("gate.json"))
	if errors.Is(err, fs.ErrNotExist) {
		return i, ErrNotEnrolled
	} else if err != nil {
		return i, err
	}
	if err := json.Unmarshal(text, &i); err != nil || len(i.Seed) != ed25519.SeedSize || len(i.ServiceKey) != ed25519.PublicKeySize {
		return i, fmt.Errorf("%s cannot be read: remove it, and enrol the gate again", f.path("gate.json"))
	}
	return i, nil
}

func (f *Folder) putIdentity(i Identity) error {
	text, err := json.Marshal(i)
	if err == nil {
		err = f.put(text, true, "gate.json")
	}
	return err
}

// partPath returns where a part lies.
func partPath(d parcel.Digest) []string { return []string{"parts", d.String()} }

// Part implements [parcel.Source].
func (f *Folder) Part(d parcel.Digest) ([]byte, error) {
	packed, err := os.ReadFile(f.path(partPath(d)...))
	if err != nil {
		return nil, err
	}
	part, err := parcel.Decompress(d, packed)
	if err != nil { // it is fetched anew
		return nil, errors.Join(err, os.Remove(f.path(partPath(d)...)))
	}
	return part, nil
}

// hasPart reports whether a part is there. That it is whole shows when it is read.
func (f *Folder) hasPart(d parcel.Digest) bool {
	_, err := os.Stat(f.path(partPath(d)...))
	return err == nil
}

// putPart stores a compressed part, after a look at whether it is what its digest says.
func (f *Folder) putPart(d parcel.Digest, packed []byte) error {
	if err := parcel.Check(d, packed); err != nil {
		return err
	}
	return f.put(packed, false, partPath(d)...)
}

// putEdition stores an edition whose parts are all there.
func (f *Folder) putEdition(e parcel.Signed) error {
	text, err := json.Marshal(e)
	if err == nil {
		err = f.put(text, true, "editions", strconv.FormatInt(e.Number, 10))
	}
	return err
}

// editions returns the editions in the folder that are signed with a key, the last first. Files that cannot be read are passed over.
func (f *Folder) editions(key ed25519.PublicKey) (all []parcel.Signed, manifests []*parcel.Manifest) {
	files, _ := os.ReadDir(f.path("editions")) // none: there are none
	numbers := []int64{}
	for _, file := range files {
		if n, err := strconv.ParseInt(file.Name(), 10, 64); err == nil {
			numbers = append(numbers, n)
		}
	}
	slices.Sort(numbers)
	slices.Reverse(numbers)
	for _, n := range numbers {
		var e parcel.Signed
		text, err := os.ReadFile(f.path("editions", strconv.FormatInt(n, 10)))
		if err != nil || json.Unmarshal(text, &e) != nil {
			continue
		}
		if m, err := e.Open(key); err == nil {
			all, manifests = append(all, e), append(manifests, m)
		}
	}
	return all, manifests
}

// keep removes editions and parts that nothing needs: the editions are those with the numbers, the parts those of the manifests.
func (f *Folder) keep(numbers []int64, manifests []*parcel.Manifest) error {
	needed := map[string]bool{}
	for _, m := range manifests {
		parts, err := m.Parts(f)
		if err != nil {
			return err
		}
		for _, d := range parts {
			needed[d.String()] = true
		}
	}
	var errs []error
	files, err := os.ReadDir(f.path("editions"))
	errs = append(errs, err)
	for _, file := range files {
		if n, err := strconv.ParseInt(file.Name(), 10, 64); err != nil || !slices.Contains(numbers, n) {
			errs = append(errs, os.Remove(f.path("editions", file.Name())))
		}
	}
	files, err = os.ReadDir(f.path("parts"))
	errs = append(errs, err)
	for _, file := range files {
		if !needed[file.Name()] && !strings.HasPrefix(file.Name(), ".new-") {
			errs = append(errs, os.Remove(f.path("parts", file.Name())))
		}
	}
	return errors.Join(errs...)
}
