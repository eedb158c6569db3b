<script setup lang="ts">
import { BarChart } from "echarts/charts";
import { AriaComponent, GridComponent, LegendComponent, TooltipComponent } from "echarts/components";
import { init, use, type ECharts } from "echarts/core";
import { CanvasRenderer } from "echarts/renderers";
import { onBeforeUnmount, onMounted, ref, watch } from "vue";

use([BarChart, GridComponent, LegendComponent, TooltipComponent, AriaComponent, CanvasRenderer]);
const props = defineProps<{ buckets: { at: string; signedIn: number; refused: number }[]; bucket: string }>();
const box = ref<HTMLElement | null>(null);
let chart: ECharts | null = null;
const words = (at: string) =>
  new Date(at).toLocaleString(
    [],
    props.bucket !== "hour" ? { month: "short", day: "numeric" } : { month: "short", day: "numeric", hour: "2-digit" },
  );

function draw() {
  if (!box.value) return;
  const css = getComputedStyle(document.documentElement);
  const color = (name: string) => css.getPropertyValue(name).trim();
  chart ??= init(box.value);
  chart.setOption({
    animation: false,
    aria: { enabled: true },
    textStyle: { color: color("--soft"), fontFamily: getComputedStyle(document.body).fontFamily },
    grid: { left: 44, right: 12, top: 34, bottom: 28 },
    legend: { top: 0, right: 0, textStyle: { color: color("--ink") } },
    tooltip: {
      trigger: "axis",
      renderMode: "richText",
      backgroundColor: color("--card"),
      textStyle: { color: color("--ink") },
    },
    xAxis: {
      type: "category",
      data: props.buckets.map((b) => words(b.at)),
      axisTick: { show: false },
      axisLine: { lineStyle: { color: color("--rule") } },
    },
    yAxis: { type: "value", minInterval: 1, splitLine: { lineStyle: { color: color("--rule") } } },
    series: [
      {
        name: "signed in",
        type: "bar",
        stack: "all",
        data: props.buckets.map((b) => b.signedIn),
        itemStyle: { color: color("--moss-line") || color("--moss") },
      },
      {
        name: "refused",
        type: "bar",
        stack: "all",
        data: props.buckets.map((b) => b.refused),
        itemStyle: { color: color("--rust-line") },
      },
    ],
  });
}
const fit = () => chart?.resize();
const theme = new MutationObserver(draw);
onMounted(() => {
  draw();
  window.addEventListener("resize", fit);
  theme.observe(document.documentElement, { attributes: true, attributeFilter: ["class"] });
});
watch(() => props.buckets, draw);
onBeforeUnmount(() => {
  window.removeEventListener("resize", fit);
  theme.disconnect();
  chart?.dispose();
});
</script>

<template>
  <div ref="box" class="chart" role="img" :aria-label="`Sign-ins by ${bucket}`"></div>
</template>

<style scoped>
.chart {
  width: 100%;
  height: 260px;
}
</style>
