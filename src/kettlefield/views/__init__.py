"""Tables, figures and pages: results in, files and text out."""
