package asyncapi

import "kamerad.example/core/contract"

// maxSafe is the greatest whole number that stands as a number in the protocol's JSON.
const maxSafe = 1<<53 - 1

// orNull returns a schema that takes null as well.
func orNull(schema object) object { return object{"anyOf": []object{schema, {"type": "null"}}} }

// tuple returns the schema of a list of which each place has a schema of its own.
func tuple(places []object) object {
	out := object{"type": "array", "minItems": len(places), "maxItems": len(places)}
	if len(places) > 0 {
		out["items"] = places
		out["additionalItems"] = false
	}
	return out
}

// arguments returns the schema of a request's arguments, which stand in the order of its parameters.
func (w *writer) arguments(params []contract.Param) object {
	var places []object
	for _, p := range params {
		places = append(places, w.value(p.Type, true))
	}
	return tuple(places)
}

// whole returns the schema of a whole number in a range; beyond what a double holds exactly it is a text.
func whole(low, high int64) object {
	if low >= -maxSafe && high <= maxSafe {
		return between(low, high)
	}
	text := object{"type": "string", "pattern": "^-?[1-9][0-9]{15,18}$"}
	return object{"anyOf": []object{between(max(low, -maxSafe), min(high, maxSafe)), text}}
}

// real returns the schema of a real, whose bounds a type counts in steps.
func real(t *contract.Type) object {
	return object{"type": "number", "minimum": t.Real(t.Low), "maximum": t.Real(t.High)}
}

// written is the schema of a length of time where it is read.
func written(t *contract.Type) object {
	text := object{"type": "string", "pattern": "^-?[0-9.]+(ms|s|min)$"}
	return object{"anyOf": []object{whole(t.Low, t.High), text}}
}

// value returns the schema of a value of a type. isRead says that the server reads it: it takes more than it writes.
func (w *writer) value(t *contract.Type, isRead bool) object {
	switch t.Form {
	case contract.FormBool:
		return object{"type": "boolean"}
	case contract.FormInt:
		return whole(t.Low, t.High)
	case contract.FormTime:
		if isRead {
			return written(t)
		}
		return whole(t.Low, t.High)
	case contract.FormInstant:
		return object{"type": "integer", "description": "Milliseconds of the session's clock."}
	case contract.FormReal:
		return real(t)
	case contract.FormDirection:
		radians := object{"type": "number", "description": "Radians."}
		if isRead {
			number := object{"type": "number"}
			return object{"anyOf": []object{radians, tuple([]object{number, number})}}
		}
		return radians
	case contract.FormVec2:
		return tuple([]object{real(t), real(t)})
	case contract.FormVec3:
		return tuple([]object{real(t), real(t), real(t)})
	case contract.FormRotation:
		number := object{"type": "number"}
		return tuple([]object{number, number, number, number})
	case contract.FormText:
		return object{"type": "string", "maxLength": t.Max}
	case contract.FormEnum:
		return object{"enum": t.Enum.Values}
	case contract.FormKind:
		return object{"enum": t.Names}
	case contract.FormEntity:
		return orNull(entity())
	case contract.FormClient:
		return orNull(between(0, 1<<31-1))
	}
	return w.container(t, isRead)
}

// container returns the schema of a value that holds others.
func (w *writer) container(t *contract.Type, isRead bool) object {
	switch t.Form {
	case contract.FormStacks:
		one := tuple([]object{{"enum": t.Enum.Values}, between(1, t.Each)})
		if t.Slotted {
			one = orNull(one)
		}
		return object{"type": "array", "items": one, "maxItems": t.Max}
	case contract.FormMap:
		pair := tuple([]object{w.value(t.Key, isRead), w.value(t.Of, isRead)})
		return object{"type": "array", "items": pair, "maxItems": t.Max}
	case contract.FormList:
		return object{"type": "array", "items": w.value(t.Of, isRead), "maxItems": t.Max}
	case contract.FormRecord:
		members := object{}
		var required []string
		for _, p := range t.Parts {
			members[p.Name] = w.value(p.Type, isRead)
			required = append(required, p.Name)
		}
		return closed(required, members)
	}
	panic("no value of an outline has the form " + string(t.Form))
}
