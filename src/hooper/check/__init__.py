"""Does it answer: probes, targets, where they are made from, inside against outside."""
