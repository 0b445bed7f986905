"""Trees: what is below a root, whatever it is; `protocol` says what each kind promises."""
