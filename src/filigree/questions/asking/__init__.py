"""What is asked: subjects, scopes, and what a family is silent on."""
