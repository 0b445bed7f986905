"""The formats of the `slackware` family."""
