package connector

import (
	"context"
	"os"

	"go.yaml.in/yaml/v3"

	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/setting"
)

// StaticSettings are setups that do not change, by connection.
type StaticSettings map[string]Settings

// ReadStaticSettings reads setups from a YAML file: for each connection its kind and its settings.
func ReadStaticSettings(path string) (StaticSettings, error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	all := map[string]map[string]string{}
	if err := yaml.Unmarshal(text, &all); err != nil {
		return nil, fault.New(fault.Syntax, "the settings cannot be read: %s", err).At(fault.Place{Source: path})
	}
	f := StaticSettings{}
	for id, values := range all {
		if id == fixedSecrets {
			f[id] = Settings{Values: values}
			continue
		}
		s := Settings{Kind: values["kind"], Values: values}
		if drivers[s.Kind].open == nil {
			return nil, fault.Expect(fault.Unknown, "a kind of system", fault.Quote(s.Kind)).InField(id).At(fault.Place{Source: path})
		}
		for _, set := range connection.KindOf(s.Kind).Settings {
			if set.Type == setting.Secret && values[set.Name] != "" {
				s.Secrets = append(s.Secrets, values[set.Name])
			}
		}
		f[id] = s
	}
	return f, nil
}

// Settings finds a setup.
func (f StaticSettings) Settings(_ context.Context, id string) (*Settings, error) {
	s, ok := f[id]
	if !ok {
		return nil, nil
	}
	return &s, nil
}

// fixedSecrets is the entry of a settings file that is no connection: secrets that steps need, by their names.
const fixedSecrets = "secrets"

// Get finds a secret that a step needs; it is empty where there is none of that name.
func (f StaticSettings) Get(_ context.Context, name string) (string, error) {
	return f[fixedSecrets].Values[name], nil
}

// Set keeps nothing.
func (f StaticSettings) Set(context.Context, string, string) error { return nil }

// Lock has nobody to wait for.
func (f StaticSettings) Lock(ctx context.Context, _ string, do func(context.Context) error) error {
	return do(ctx)
}
