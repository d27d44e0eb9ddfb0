tide = { high = 1 }
/*/ not yet
