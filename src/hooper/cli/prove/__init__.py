"""Commands that prove, and say why it is not so."""
