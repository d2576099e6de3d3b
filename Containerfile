# Grey Heron in a container:  podman build -t grey-heron .
#   podman run -p 127.0.0.1:8470:8470 -v grey-heron:/data -e GREY_HERON_TOKEN=… grey-heron
FROM node:22-slim AS workbench
WORKDIR /grey-heron
COPY ui ui
COPY docs/openapi.json docs/
RUN cd ui && npm install --no-save --silent && npm run build -- --logLevel warn

FROM python:3.13-slim
COPY pyproject.toml users.lock README.md LICENSE /grey-heron/
COPY src /grey-heron/src
COPY --from=workbench /grey-heron/src/greyheron/workbench /grey-heron/src/greyheron/workbench
RUN pip install --no-cache-dir --require-hashes -r /grey-heron/users.lock && \
    pip install --no-cache-dir --no-deps /grey-heron && useradd --create-home heron && install -d -o heron /data
USER heron
VOLUME /data
EXPOSE 8470
HEALTHCHECK CMD python -c "import urllib.request as r; r.urlopen(r.Request('http://127.0.0.1:8470/health'))"
# It listens beyond loopback, so it wants GREY_HERON_TOKEN; say with --name what the proxy before it is called.
ENTRYPOINT ["grey-heron", "serve", "--host", "0.0.0.0", "--data", "/data", "--no-open", "--log-format", "json"]
