"""Albums in the cloud: `docs/formats/album-service.md` describes what is spoken with them."""
