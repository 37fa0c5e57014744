package heronweir;

/** Needs no library: java -ea heronweir.LaneTest */
final class LaneTest {
    public static void main(String[] args) {
        Lane lane = new Lane();
        lane.pass();
        lane.pass();
        assert lane.words().equals("2 fish today\n") : lane.words();
        System.out.println("1 test holds");
    }
}
