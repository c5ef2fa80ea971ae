# docker build -t bold-orchard -f Containerfile .   then   docker run --rm -v "$PWD:/work" bold-orchard
FROM python:3.12-slim
COPY . /source
RUN python -m pip install --no-cache-dir "/source[all]" && rm -r /source
WORKDIR /work
ENTRYPOINT ["orchard"]
CMD ["demo"]
