"""What Dokimon knows and does, without a terminal: values in, values out, nothing printed."""
