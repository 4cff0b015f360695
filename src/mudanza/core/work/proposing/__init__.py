"""What a target gives to be read as a layout: templates, field lists, tables of databases, schemas, exports."""
