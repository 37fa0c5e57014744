package declare

import _ "embed"

// Schema is a JSON Schema (draft 2020-12) of a declaration, as editors take it. What it cannot say,
// such as that a name is declared somewhere else, Parse says.
//
//go:embed schema.json
var Schema []byte
