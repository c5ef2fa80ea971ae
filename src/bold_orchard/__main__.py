import sys

from bold_orchard.cli.main import main

sys.exit(main())
