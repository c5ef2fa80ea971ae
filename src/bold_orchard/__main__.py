from bold_orchard.cli.main import program

program()
