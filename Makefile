# make demo         set up, install, and run the whole job on the demo data
# make test         set up, install, and run every check
# make install      the package with its vignettes, and the program kairon
# make docs         help pages, bindings, the schema of studies and the program's help anew (needs roxygen2)
# make site         the documentation as a web site, in docs/site
# make screenshots  docs/screenshots anew
# make bench        the measurements of bench/
# make check        R CMD check
# make sanitize     the core's tests and five minutes of inputs at random, under sanitizers
# make fuzz         readers on inputs at random, the core on inputs that coverage leads to, and what plain R gives as
#                   well, for some MINUTES=5 each; arguments that nobody means, files that no verb was made for;
#                   kills, interrupts and full disks at random moments
.PHONY: demo test install docs site screenshots bench check data sanitize fuzz

demo:
	@tools/setup run
	@tools/install
	@Rscript exec/kairon demo demo-output

test:
	@tools/setup test
	@tools/install
	@Rscript --vanilla tools/test.R

install:
	@tools/setup install
	@tools/install
	@tools/vignettes

docs:
	Rscript -e 'Rcpp::compileAttributes("."); roxygen2::roxygenise(load_code = "source")'
	@tools/install
	Rscript data-raw/make-schema.R
	Rscript data-raw/make-help.R

site:
	@tools/setup site
	@tools/install
	Rscript -e 'options(pkgdown.internet = FALSE); pkgdown::build_site(override = list(destination = "docs/site"), preview = FALSE, new_process = FALSE, install = FALSE)'

screenshots:
	@tools/setup shots
	@tools/install
	@tools/screenshots

bench: install
	Rscript bench/time-axis.R
	Rscript bench/grid.R
	Rscript bench/windows.R
	Rscript bench/vetting.R
	Rscript bench/look.R
	Rscript bench/decompose.R
	Rscript bench/forecast.R
	Rscript bench/arima.R
	Rscript bench/backtest.R
	Rscript bench/tell.R
	Rscript bench/bridges.R

sanitize:
	@tools/sanitize

fuzz:
	@tools/setup fuzz
	@tools/install
	Rscript --vanilla tests/fuzz/fuzz_readers.R $$((60 * $${MINUTES:-5}))
	Rscript --vanilla tests/fuzz/fuzz_slow.R $$((60 * $${MINUTES:-5}))
	Rscript --vanilla tests/fuzz/fuzz_arguments.R
	Rscript --vanilla tests/fuzz/fuzz_shell.R
	Rscript --vanilla tests/fuzz/faults.R
	@SECONDS_OF_FUZZ=$$((12 * $${MINUTES:-5})) tools/fuzz

check:
	mkdir -p build
	cd build && R CMD build .. && R CMD check --no-manual kairon_*.tar.gz

data:
	Rscript data-raw/make-demo.R
