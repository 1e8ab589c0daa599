"""The sample scenario: Naviera Marisma, an island ferry cooperative. All of it is made up."""
