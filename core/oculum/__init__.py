"""The computation of Oculum: definitions, decoding, alarms. Arrays in, arrays out; no I/O, no clock."""
