package server

import (
	"reflect"

	"github.com/danielgtaylor/huma/v2"

	"steady-compass/core/certs"
	"steady-compass/core/change"
	"steady-compass/core/codes"
	"steady-compass/core/dates"
	"steady-compass/core/exposure"
	"steady-compass/core/flow"
	"steady-compass/core/gone"
	"steady-compass/core/look"
	"steady-compass/core/trace"
	"steady-compass/core/uses"
	"steady-compass/people"
)

// enums are the types of which the API's description names each value, so that a page that forgets one is a type error.
var enums = map[reflect.Type][]any{
	reflect.TypeFor[flow.Outcome]():     words(flow.Outcomes...),
	reflect.TypeFor[flow.Stage]():       words(flow.Stages...),
	reflect.TypeFor[flow.Verdict]():     words(flow.Verdicts...),
	reflect.TypeFor[flow.Ground]():      words(flow.External, flow.Edge, flow.Internal),
	reflect.TypeFor[exposure.Covered](): words(exposure.Declared, exposure.Partial, exposure.None),
	reflect.TypeFor[codes.Level]():      words(codes.Error, codes.Warning, codes.Note),
	reflect.TypeFor[codes.Over]():       words(codes.Overs...),
	reflect.TypeFor[trace.Mark]():       words(trace.Marks...),
	reflect.TypeFor[uses.How]():         words(uses.Direct, uses.Inside, uses.Told, uses.Led),
	reflect.TypeFor[gone.Kind]():        words(gone.Kinds...),
	reflect.TypeFor[Sight]():            words(Sights...),
	reflect.TypeFor[look.SuspectKind](): words(look.Written, look.Unwritten),
	reflect.TypeFor[look.Did]():         words(look.Dids...),
	reflect.TypeFor[look.Came]():        words(look.Cames...),
	reflect.TypeFor[look.Agreement]():   words(look.Agreements...),
	reflect.TypeFor[dates.Kind]():       words(dates.Kinds...),
	reflect.TypeFor[change.StepKind]():  words(change.StepKinds...),
	reflect.TypeFor[certs.Condition]():  words(certs.Conditions...),
	reflect.TypeFor[people.Role]():      words(people.Roles...),
}

func words[T ~string](values ...T) []any {
	out := make([]any, len(values))
	for i, v := range values {
		out[i] = string(v)
	}
	return out
}

// valueOf stands for a type in the API's description.
type valueOf[T ~string] string

// TransformSchema names the values.
func (valueOf[T]) TransformSchema(_ huma.Registry, s *huma.Schema) *huma.Schema {
	s.Enum = enums[reflect.TypeFor[T]()]
	return s
}

// enumerate lets a description name the values of a type.
func enumerate[T ~string](schemas huma.Registry) {
	schemas.RegisterTypeAlias(reflect.TypeFor[T](), reflect.TypeFor[valueOf[T]]())
}

func enumerateAll(schemas huma.Registry) {
	enumerate[flow.Outcome](schemas)
	enumerate[flow.Stage](schemas)
	enumerate[flow.Verdict](schemas)
	enumerate[flow.Ground](schemas)
	enumerate[exposure.Covered](schemas)
	enumerate[codes.Level](schemas)
	enumerate[codes.Over](schemas)
	enumerate[trace.Mark](schemas)
	enumerate[uses.How](schemas)
	enumerate[gone.Kind](schemas)
	enumerate[certs.Condition](schemas)
	enumerate[people.Role](schemas)
}
