package heronweir;

import com.sun.net.httpserver.HttpExchange;
import com.sun.net.httpserver.HttpServer;
import java.io.IOException;
import java.net.InetSocketAddress;
import java.util.concurrent.atomic.AtomicLong;

/** Counts fish that climb past a weir, and says how many. */
public final class Lane {
    private final AtomicLong count = new AtomicLong();

    /** Counts one fish. */
    public void pass() {
        count.incrementAndGet();
    }

    /** What the page says. */
    public String words() {
        return count.get() + " fish today\n";
    }

    private void answer(HttpExchange exchange) throws IOException {
        if (exchange.getRequestMethod().equals("POST")) {
            pass();
        }
        byte[] body = words().getBytes();
        exchange.sendResponseHeaders(200, body.length);
        exchange.getResponseBody().write(body);
        exchange.close();
    }

    public static void main(String[] args) throws IOException {
        HttpServer server = HttpServer.create(new InetSocketAddress("127.0.0.1", Integer.parseInt(args[0])), 0);
        server.createContext("/", new Lane()::answer);
        server.start();
    }
}
