package yang

import (
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"slices"
	"strings"

	"mellowgate/internal/core/blueprint"
	"mellowgate/internal/core/drift"
)

// Model is one way to write the configuration of a device down.
type Model interface {
	// Module is what the model is announced as.
	Module() Module
	// Of returns the part of a blueprint that the model carries, and names the
	// parts that it does not.
	Of(b blueprint.Blueprint, secrets Secrets) (data Data, left []string)
	// Read reads data of the model, JSON or XML; ErrForm where it is none.
	Read(text []byte) (Data, error)
}

// Data is a configuration as a model carries it.
type Data interface {
	JSON() ([]byte, error) // RFC 7951
	XML() ([]byte, error)
	// Facts returns it as facts that can be compared.
	Facts() drift.Facts
	// Without returns it without what a device does not have, and names what that
	// takes out.
	Without(l Lacks) (data Data, left []string)
}

// Lacks are the parts of the models that a device may announce to be without:
// the augmentation for TACACS+, and the features of RFC 7317.
type Lacks struct{ TACACS, RADIUS, Users, Authentication bool }

// Models are all of them, by the name that -model takes.
var Models = map[string]Model{"ietf": ietf{}, "openconfig": openConfig{}}

// InOrder are all of them, in the order in which they are read and written.
var InOrder = []Model{Models["ietf"], Models["openconfig"]}

type (
	ietf       struct{}
	openConfig struct{}
)

func (ietf) Module() Module       { return Modules[0] }
func (openConfig) Module() Module { return Modules[2] }

func (ietf) Of(b blueprint.Blueprint, secrets Secrets) (Data, []string) { return SystemOf(b, secrets) }

func (openConfig) Of(b blueprint.Blueprint, secrets Secrets) (Data, []string) {
	return OpenSystemOf(b, secrets)
}

func (ietf) Read(text []byte) (Data, error) {
	s, err := read[System](text, "ietf-system:system")
	s.XMLName = xml.Name{}
	return s, err
}

func (openConfig) Read(text []byte) (Data, error) {
	s, err := read[OpenSystem](text, "openconfig-system:system")
	s.XMLName = xml.Name{}
	return s, err
}

// ErrForm is data that is not of the model.
var ErrForm = errors.New("this is no data of the model")

// read reads data, XML or JSON, where the top member has a name.
func read[T any](text []byte, top string) (data T, err error) {
	if strings.HasPrefix(strings.TrimSpace(string(text)), "<") {
		return data, wrapForm(xml.Unmarshal(text, &data))
	}
	var values map[string]T
	if err := json.Unmarshal(text, &values); err != nil {
		return data, wrapForm(err)
	}
	data, has := values[top]
	if !has {
		return data, ErrForm
	}
	return data, nil
}

func wrapForm(err error) error {
	if err == nil {
		return nil
	}
	return fmt.Errorf("%w: %v", ErrForm, err)
}

// JSON returns the data as RFC 7951 has it.
func (s System) JSON() ([]byte, error) {
	return indentJSON(map[string]System{"ietf-system:system": s})
}

// XML returns the data as XML.
func (s System) XML() ([]byte, error) { return indentXML(s) }

// JSON returns the data as RFC 7951 has it.
func (s OpenSystem) JSON() ([]byte, error) {
	return indentJSON(map[string]OpenSystem{"openconfig-system:system": s})
}

// XML returns the data as XML.
func (s OpenSystem) XML() ([]byte, error) { return indentXML(s) }

func indentJSON(v any) ([]byte, error) {
	text, err := json.MarshalIndent(v, "", "  ")
	return append(text, '\n'), err
}

func indentXML(v any) ([]byte, error) {
	text, err := xml.MarshalIndent(v, "", "  ")
	return append(text, '\n'), err
}

// Without takes out of ietf-system what a device comes without.
func (s System) Without(l Lacks) (data Data, left []string) {
	drop := func(name, says string) {
		s.Authentication.Order = slices.DeleteFunc(slices.Clone(s.Authentication.Order),
			func(i Identity) bool { return i.Name == name })
		left = append(left, says)
	}
	if l.TACACS && s.TACACS != nil {
		s.TACACS = nil
		drop("tacacs-plus", "its TACACS+ servers: the device does not announce ietf-system-tacacs-plus")
	}
	if l.RADIUS && s.RADIUS != nil {
		s.RADIUS = nil
		drop("radius", "its RADIUS servers: the device's ietf-system comes without the feature radius")
	}
	if l.Users && len(s.Authentication.Users) > 0 {
		s.Authentication.Users = nil
		drop("local-users", "its local accounts: the device's ietf-system comes without the feature local-users")
	}
	if l.Authentication && len(s.Authentication.Order)+len(s.Authentication.Users) > 0 {
		s.Authentication = Authentication{}
		left = append(left, "its order of authentication and its accounts: the device's ietf-system comes without "+
			"the feature authentication")
	}
	return s, left
}

// Without returns the data as it is: OpenConfig's system model has no features.
func (s OpenSystem) Without(Lacks) (data Data, left []string) { return s, nil }
