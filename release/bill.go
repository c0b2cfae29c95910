package main

import (
	"crypto/sha256"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	cyclonedx "github.com/CycloneDX/cyclonedx-go"
)

// bill writes the bill of materials: the libraries of all programs, as CycloneDX has it.
func (r *release) bill() error {
	bom := cyclonedx.NewBOM()
	id := sha256.Sum256([]byte(r.commit))
	id[6], id[8] = id[6]&0x0F|0x80, id[8]&0x3F|0x80 // RFC 9562, version 8: the same for the same commit
	bom.SerialNumber = fmt.Sprintf("urn:uuid:%x-%x-%x-%x-%x", id[:4], id[4:6], id[6:8], id[8:10], id[10:16])
	own := reference("zipstamp", r.version)
	bom.Metadata = &cyclonedx.Metadata{
		Timestamp: r.time.Format(time.RFC3339),
		Component: &cyclonedx.Component{
			BOMRef: own, Type: cyclonedx.ComponentTypeApplication, Name: "zipstamp", Version: r.version,
			PackageURL: own,
			Licenses:   &cyclonedx.Licenses{{License: &cyclonedx.License{ID: "Apache-2.0"}}},
		},
	}
	var all []cyclonedx.Component
	var needs []string
	for _, m := range r.modules {
		ref := reference(m.path, m.version)
		needs = append(needs, ref)
		all = append(all, cyclonedx.Component{
			BOMRef: ref, Type: cyclonedx.ComponentTypeLibrary, Name: m.path, Version: m.version, PackageURL: ref,
			Properties: &[]cyclonedx.Property{{Name: "go:sum", Value: m.sum}},
		})
	}
	bom.Components = &all
	bom.Dependencies = &[]cyclonedx.Dependency{{Ref: own, Dependencies: &needs}}
	f, err := os.Create(filepath.Join(r.out, r.name()+".cdx.json"))
	if err != nil {
		return err
	}
	return errors.Join(cyclonedx.NewBOMEncoder(f, cyclonedx.BOMFileFormatJSON).SetPretty(true).Encode(bom), f.Close())
}

// reference is the package URL of a module.
func reference(path, version string) string { return "pkg:golang/" + path + "@" + version }
