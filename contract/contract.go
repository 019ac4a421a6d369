// Package contract has the types that the HTTP interface speaks in, made from api/openapi.yaml. The service and its
// clients call them by the same names.
package contract

//go:generate go tool oapi-codegen -config gen.yaml ../api/openapi.yaml
