"""Tables, row files, HTML pages, figures, notebooks, statistics."""
