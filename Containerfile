# docker build -t bold-orchard -f Containerfile .   then   docker run --rm -v "$PWD:/data" bold-orchard
FROM python:3.12-slim
COPY . /source
RUN python -m pip install --no-cache-dir "/source[all]" && rm -r /source
WORKDIR /data
ENTRYPOINT ["orchard"]
CMD ["demo"]
