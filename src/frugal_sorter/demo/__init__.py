"""The made-up front-desk computer of Tidewater Pottery, to try everything on."""
